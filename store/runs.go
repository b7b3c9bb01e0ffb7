package store

import (
	"encoding/json"
	"time"

	"kembrel/core/checkpoint"
	"kembrel/core/filter"
	"kembrel/core/space"
	"kembrel/core/verdict"
)

// Start is what is kept of how a run began.
type Start struct {
	ID            int64
	Start, Origin json.RawMessage
}

// DueRun is a run whose grace period is over.
type DueRun struct {
	ID        int64
	Project   string
	Number    int
	ProjectID int64
}

// RunQuery asks for runs of a project that fulfil a condition, in an order.
type RunQuery struct {
	Project    int64
	Where      *filter.Node            // nil: all
	Sort       *filter.Node            // nil: by number
	Descending bool                    // runs without a value come last either way
	Lower      func(curve string) bool // whether best of a curve is its lowest reading
	Objective  string                  // the curve whose best is kept with the run
	After      *RunPlace               // behind this one; nil: from the start
	Limit      int
	Shown      string // which runs, by what became of them; "": those that are neither archived nor doomed
}

// RunPlace is where a run stands in an order: its value (nil: none) and its number.
type RunPlace struct {
	Value  any   `json:"v"` // float64, or string for texts and times
	Number int64 `json:"n"`
}

// Landmark is a run where a page of an order can begin behind, and how many runs there are up to it.
type Landmark struct {
	RunPlace
	Place int64
}

// Word is something that a project's data offer to a filter.
type Word struct{ Kind, Word string }

// Leg is a row of legs.
type Leg struct {
	Number                     int
	State, Host                string
	FromStep, LastStep         int64
	LastEpoch                  float64
	Started                    time.Time
	Ended                      *time.Time
	Seen                       time.Time
	ExitCode                   *int
	Signal, Why, Tail          string
	Batches                    int64
	Summarised, Sealed, Points int64
	Resumed                    json.RawMessage
}

// LegState is how a leg stands, for saying why it refused something and for sealing it.
type LegState struct {
	Number                     int
	Recorder, State, Host      string
	Batches, Upto, LastStep    int64
	Points, Summarised, Sealed int64
}

// HeldLeg is a leg and who writes it; Alive says whether that recorder was heard of lately.
type HeldLeg struct {
	Number                int
	Recorder, State, Host string
	Batches, Upto         int64
	Seen, Started         time.Time
	Alive                 bool
}

// NewLeg is what a leg is made of; the readings of a leg that resumes count from FromStep on.
type NewLeg struct {
	Key, Recorder, Host string
	FromStep            int64
	FromEpoch           float64 // NaN: not known
	Started             time.Time
	Resumed             any // nil: it began afresh
}

// LegNews is what a recorder is to hear, and how its leg stands.
type LegNews struct {
	Recorder, LegState string
	Fresh              bool // it was heard a moment ago
	Newest             int  // leg of the run
	NewestHost         string
	NewestStarted      time.Time
	Objective          verdict.Objective
	Rule, Stopped      json.RawMessage
	State              string // of the run
	ToldStart          bool   // the program said what its weights were before training
}

// Ending is how a leg ended.
type Ending struct {
	Run               int64
	Leg               int
	Recorder, State   string
	Ended             time.Time
	ExitCode          *int
	Signal, Why, Tail string
}

// LostLeg is a leg without a sign of life.
type LostLeg struct {
	Run    int64
	Ended  *time.Time
	Newest bool
}

// Output is a stretch of a program's output.
type Output struct {
	ID          int64
	Leg         int
	Stream      string
	Start, Size int64
	Text        string
}

// Run is a row of runs.
type Run struct {
	ID               int64
	Number           int
	Title            string
	State            string
	Who              string
	Host             string
	Started          time.Time
	Ended            *time.Time
	Took             float64    // seconds of its legs that have ended
	Since            *time.Time // start of the leg that runs
	Hyper            json.RawMessage
	Step             int64
	Epoch            float64
	Verdict          json.RawMessage
	Dispute          json.RawMessage
	Tags             []string
	Alarms           []string
	Note             string
	Needs            []string
	Origin           json.RawMessage
	Start            json.RawMessage
	Repeats          json.RawMessage
	Archived, Doomed *time.Time
	Creator          int64
	space.Place
}

// NeedsOrUsual are the parts that resuming the run needs.
func (r Run) NeedsOrUsual() []string {
	if len(r.Needs) == 0 {
		return checkpoint.UsualNeeds
	}
	return r.Needs
}

// NewRun is what a run is made of.
type NewRun struct {
	Project, Creator int64
	Key              string
	Title, Host      string
	Recipe           any
	Origin           any // nil: none
	space.Place
	Started time.Time
}

// Note is a line left on a run.
type Note struct {
	Leg  int
	At   time.Time
	Text string
}
