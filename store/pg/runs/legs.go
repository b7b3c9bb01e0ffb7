package runs

import (
	"context"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// LegByKey finds a leg by the key it was opened with; Alive says whether its recorder was heard within alive seconds.
func (q Queries) LegByKey(ctx context.Context, run int64, key string, alive float64) (store.HeldLeg, error) {
	return db.One[store.HeldLeg](ctx, q, "leg_by_key", db.A{"run": run, "key": key, "alive": alive})
}

// LegKeyElsewhere reports whether another run has a leg of this key.
func (q Queries) LegKeyElsewhere(ctx context.Context, run int64, key string) (bool, error) {
	return db.Value[bool](ctx, q, "leg_key_elsewhere", db.A{"run": run, "key": key})
}

// AddLeg opens a run's next leg. The run must be locked.
func (q Queries) AddLeg(ctx context.Context, run int64, l store.NewLeg) (int, error) {
	if _, err := q.Exec(ctx, "leg_replace", db.A{"run": run}); err != nil {
		return 0, err
	}
	return db.Value[int](ctx, q, "leg_add", db.A{"run": run, "key": l.Key, "recorder": l.Recorder, "host": l.Host,
		"from_step": l.FromStep, "from_epoch": l.FromEpoch,
		"started": l.Started, "resumed": l.Resumed})
}

// NewestLeg finds a run's newest leg; Alive as LegByKey says.
func (q Queries) NewestLeg(ctx context.Context, run int64, alive float64) (store.HeldLeg, error) {
	return db.One[store.HeldLeg](ctx, q, "leg_newest", db.A{"run": run, "alive": alive})
}

// ClaimLeg gives a leg to another recorder.
func (q Queries) ClaimLeg(ctx context.Context, run int64, leg int, recorder string) error {
	_, err := q.Exec(ctx, "leg_claim", db.A{"run": run, "number": leg, "recorder": recorder})
	return err
}

// UnstopRun forgets that a person had asked a run to stop, which somebody goes on with.
func (q Queries) UnstopRun(ctx context.Context, run int64) error {
	_, err := q.Exec(ctx, "leg_unstop", db.A{"run": run})
	return err
}

// SeeLeg notes a sign of life and returns the leg's state.
func (q Queries) SeeLeg(ctx context.Context, run int64, leg int, recorder string) (string, error) {
	return db.Value[string](ctx, q, "leg_seen", db.A{"run": run, "leg": leg, "recorder": recorder})
}

// LegNews finds it.
func (q Queries) LegNews(ctx context.Context, run int64, leg int) (store.LegNews, error) {
	return db.One[store.LegNews](ctx, q, "leg_news", db.A{"run": run, "leg": leg})
}

// ReviveLeg makes a lost leg running again, unless another came after it.
func (q Queries) ReviveLeg(ctx context.Context, run int64, leg int) (bool, error) {
	n, err := q.Exec(ctx, "leg_alive_again", db.A{"run": run, "leg": leg})
	return n > 0, err
}

// EndLeg ends a leg and reports whether it is the run's newest.
func (q Queries) EndLeg(ctx context.Context, e store.Ending) (newest bool, err error) {
	return db.Value[bool](ctx, q, "leg_end", db.A{"run": e.Run, "leg": e.Leg, "recorder": e.Recorder,
		"state": e.State, "ended": e.Ended,
		"exit_code": e.ExitCode, "signal": e.Signal, "why": e.Why, "tail": e.Tail})
}

// LoseLegs marks legs that were not heard of for some seconds.
func (q Queries) LoseLegs(ctx context.Context, after float64) ([]store.LostLeg, error) {
	return db.List[store.LostLeg](ctx, q, "leg_lose", db.A{"after": after})
}

// AddOutput keeps a stretch once and at most keep bytes for the leg; ErrNone where the recorder is not the leg's.
func (q Queries) AddOutput(ctx context.Context, run int64, recorder string, o store.Output, keep int64) error {
	n, err := q.Exec(ctx, "output_add", db.A{"run": run, "leg": o.Leg, "stream": o.Stream, "start": o.Start,
		"size": o.Size, "text": o.Text})
	if err != nil {
		return err
	}
	total, err := db.Value[int64](ctx, q, "output_grow", db.A{"run": run, "leg": o.Leg, "recorder": recorder,
		"size": n * o.Size})
	if err != nil || total <= keep+keep/4 {
		return err
	}
	_, err = q.Exec(ctx, "output_trim", db.A{"run": run, "leg": o.Leg, "keep": keep})
	return err
}

// ListOutput lists output behind an id.
func (q Queries) ListOutput(ctx context.Context, run, after int64) ([]store.Output, error) {
	return db.List[store.Output](ctx, q, "output_list", db.A{"run": run, "after": after})
}
