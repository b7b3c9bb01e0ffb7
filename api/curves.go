package api

// CurvesInput reads curves of a run.
type CurvesInput struct {
	RunInput
	Names  []string `query:"names" maxItems:"5000" doc:"Curves wanted, separated by commas; absent: all"`
	From   int64    `query:"from" minimum:"0" doc:"First step"`
	To     int64    `query:"to" minimum:"0" doc:"Last step; 0: to the end"`
	After  string   `query:"after" maxLength:"60" doc:"The position of an earlier answer: only what came since"`
	Smooth float64  `query:"smooth" minimum:"0" doc:"Half-life of the smoothing, in epochs, or in steps where epochs are unknown; 0: none"`
}

// Curves are the curves of a run up to a position.
type Curves struct {
	Position string  `json:"position" doc:"For after in the next call"`
	Whole    bool    `json:"whole" doc:"True: this replaces what was read before; false: it goes behind it"`
	Curves   []Curve `json:"curves"`
}

// Curve is a curve's readings, one list each.
type Curve struct {
	Name   string  `json:"name"`
	Step   []int64 `json:"step"`
	Epoch  Floats  `json:"epoch" doc:"NaN where the program did not say"`
	Time   []int64 `json:"time" doc:"Milliseconds since 1970 UTC"`
	Value  Floats  `json:"value"`
	Smooth Floats  `json:"smooth,omitempty"`
}

// EventsInput subscribes to the live stream.
type EventsInput struct {
	Project string `query:"project" maxLength:"40" doc:"Only this project"`
	Run     int    `query:"run" minimum:"0" doc:"Only this run of it"`
	Last    string `header:"Last-Event-ID" maxLength:"60" doc:"Replay what came after"`
}

// Event is a change of state, or the news that a run has new readings (kind "readings", which is not replayed: who
// reconnects reads the curves after its position).
type Event struct {
	Kind    string `json:"kind" enum:"project,person,run,leg,checkpoint,readings,summary,output"`
	Project string `json:"project,omitempty"`
	Run     int    `json:"run,omitempty"`
	What    string `json:"what,omitempty" doc:"What happened, such as started, finished, lost"`
	Who     string `json:"who,omitempty"`
	At      string `json:"at,omitempty"`
}

// The operations on curves and the live stream.
var (
	GetCurves    = declare[CurvesInput, Curves](Spec{ID: "curves", Method: "GET", Path: "/projects/{project}/runs/{number}/curves", Summary: "Read curves", Access: SignedIn})
	GetCurvesCSV = declare[CurvesInput, None](Spec{ID: "curves-csv", Method: "GET", Path: "/projects/{project}/runs/{number}/curves.csv", Summary: "Read curves as CSV: curve,step,epoch,time,value", Access: SignedIn, Status: 200})
	GetEvents    = declare[EventsInput, None](Spec{ID: "events", Method: "GET", Path: "/events", Summary: "Live stream (server-sent events)", Access: SignedIn, Status: 200})
)
