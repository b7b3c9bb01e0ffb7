package pg

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"time"
)

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

func none(err error) bool { return errors.Is(err, ErrNone) }

// LockRun holds a run until the transaction ends. Whoever changes a leg and its run in one transaction holds the run first, as those do who bring
// summaries up to date: else they wait for each other in a circle.
func (q Queries) LockRun(ctx context.Context, run int64) error {
	_, err := one[struct {
		ID    int64
		State string
	}](ctx, q, "run_lock", A{"run": run})
	return err
}

// LegByKey finds a leg by the key it was opened with; Alive says whether its recorder was heard within alive seconds.
func (q Queries) LegByKey(ctx context.Context, run int64, key string, alive float64) (HeldLeg, error) {
	return one[HeldLeg](ctx, q, "leg_by_key", A{"run": run, "key": key, "alive": alive})
}

// LegKeyElsewhere reports whether another run has a leg of this key.
func (q Queries) LegKeyElsewhere(ctx context.Context, run int64, key string) (bool, error) {
	return value[bool](ctx, q, "leg_key_elsewhere", A{"run": run, "key": key})
}

// AddLeg opens a run's next leg. The run must be locked.
func (q Queries) AddLeg(ctx context.Context, run int64, l NewLeg) (int, error) {
	if _, err := q.exec(ctx, "leg_replace", A{"run": run}); err != nil {
		return 0, err
	}
	return value[int](ctx, q, "leg_add", A{"run": run, "key": l.Key, "recorder": l.Recorder, "host": l.Host, "from_step": l.FromStep, "from_epoch": l.FromEpoch,
		"started": l.Started, "resumed": l.Resumed})
}

// NewestLeg finds a run's newest leg; Alive as LegByKey says.
func (q Queries) NewestLeg(ctx context.Context, run int64, alive float64) (HeldLeg, error) {
	return one[HeldLeg](ctx, q, "leg_newest", A{"run": run, "alive": alive})
}

// NewLeg is what a leg is made of; the readings of a leg that resumes count from FromStep on.
type NewLeg struct {
	Key, Recorder, Host string
	FromStep            int64
	FromEpoch           float64 // NaN: not known
	Started             time.Time
	Resumed             any // nil: it began afresh
}

// ClaimLeg gives a leg to another recorder.
func (q Queries) ClaimLeg(ctx context.Context, run int64, leg int, recorder string) error {
	_, err := q.exec(ctx, "leg_claim", A{"run": run, "number": leg, "recorder": recorder})
	return err
}

// ListLegs lists a run's legs in order.
func (q Queries) ListLegs(ctx context.Context, run int64) ([]Leg, error) {
	return list[Leg](ctx, q, "leg_list", A{"run": run})
}

// Leg finds one leg, for saying why it refused something.
func (q Queries) Leg(ctx context.Context, run int64, leg int) (LegState, error) {
	return one[LegState](ctx, q, "leg_state", A{"run": run, "leg": leg})
}

// SeeLeg notes a sign of life and returns the leg's state.
func (q Queries) SeeLeg(ctx context.Context, run int64, leg int, recorder string) (string, error) {
	return value[string](ctx, q, "leg_seen", A{"run": run, "leg": leg, "recorder": recorder})
}

// LegNews is what a recorder is to hear, and how its leg stands.
type LegNews struct {
	Recorder, LegState string
	Fresh              bool // it was heard a moment ago
	Newest             int  // leg of the run
	NewestHost         string
	NewestStarted      time.Time
	Objective          string
	Rule, Stopped      json.RawMessage
	State              string // of the run
	ToldStart          bool   // the program said what its weights were before training
}

// LegNews finds it.
func (q Queries) LegNews(ctx context.Context, run int64, leg int) (LegNews, error) {
	return one[LegNews](ctx, q, "leg_news", A{"run": run, "leg": leg})
}

// ReviveLeg makes a lost leg running again, unless another came after it.
func (q Queries) ReviveLeg(ctx context.Context, run int64, leg int) (bool, error) {
	n, err := q.exec(ctx, "leg_alive_again", A{"run": run, "leg": leg})
	return n > 0, err
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

// EndLeg ends a leg and reports whether it is the run's newest.
func (q Queries) EndLeg(ctx context.Context, e Ending) (newest bool, err error) {
	return value[bool](ctx, q, "leg_end", A{"run": e.Run, "leg": e.Leg, "recorder": e.Recorder, "state": e.State, "ended": e.Ended,
		"exit_code": e.ExitCode, "signal": e.Signal, "why": e.Why, "tail": e.Tail})
}

// LostLeg is a leg without a sign of life.
type LostLeg struct {
	Run    int64
	Ended  *time.Time
	Newest bool
}

// LoseLegs marks legs that were not heard of for some seconds.
func (q Queries) LoseLegs(ctx context.Context, after float64) ([]LostLeg, error) {
	return list[LostLeg](ctx, q, "leg_lose", A{"after": after})
}

// RunProject is the project of a run.
func (q Queries) RunProject(ctx context.Context, run int64) (int64, error) {
	return value[int64](ctx, q, "run_project", A{"run": run})
}

// Output is a stretch of a program's output.
type Output struct {
	ID          int64
	Leg         int
	Stream      string
	Start, Size int64
	Text        string
}

// AddOutput keeps a stretch once and at most keep bytes for the leg; ErrNone where the recorder is not the leg's.
func (q Queries) AddOutput(ctx context.Context, run int64, recorder string, o Output, keep int64) error {
	n, err := q.exec(ctx, "output_add", A{"run": run, "leg": o.Leg, "stream": o.Stream, "start": o.Start, "size": o.Size, "text": o.Text})
	if err != nil {
		return err
	}
	total, err := value[int64](ctx, q, "output_grow", A{"run": run, "leg": o.Leg, "recorder": recorder, "size": n * o.Size})
	if err != nil || total <= keep+keep/4 {
		return err
	}
	_, err = q.exec(ctx, "output_trim", A{"run": run, "leg": o.Leg, "keep": keep})
	return err
}

// ListOutput lists output behind an id.
func (q Queries) ListOutput(ctx context.Context, run, after int64) ([]Output, error) {
	return list[Output](ctx, q, "output_list", A{"run": run, "after": after})
}

// everyStep is the upper end of a range of steps that has none.
const everyStep = math.MaxInt64
