package entering

import (
	"context"
	"time"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ListEnterings lists the rules of a model that are in force; "": those of all models.
func (q Queries) ListEnterings(ctx context.Context, model string) ([]store.Entering, error) {
	return db.List[store.Entering](ctx, q, "entering_list", db.A{"model": model})
}

// LockEnterings has rules of a model made one after another. It belongs in a transaction.
func (q Queries) LockEnterings(ctx context.Context, model string) error {
	_, err := db.Value[int64](ctx, q, "entering_lock", db.A{"model": model})
	return err
}

// AddEntering adds a rule to the model named in it and returns its number.
func (q Queries) AddEntering(ctx context.Context, e store.Entering) (int, error) {
	return db.Value[int](ctx, q, "entering_add", db.A{"model": e.ModelName, "filter": e.Filter,
		"checkpoint": e.Checkpoint, "margin": e.Margin, "ask": e.Ask, "each": e.Each, "person": e.Person})
}

// ClearEntering ends a rule, and reports whether it was in force.
func (q Queries) ClearEntering(ctx context.Context, id int64) (bool, error) {
	n, err := q.Exec(ctx, "entering_clear", db.A{"id": id})
	return n > 0, err
}

// Looked keeps that runs were looked at up to an event; heard: when something has happened in the project, nil: nothing
// has.
func (q Queries) Looked(ctx context.Context, id, event int64, heard *time.Time, trouble string) error {
	_, err := q.Exec(ctx, "entering_looked", db.A{"id": id, "event": event, "heard": heard, "trouble": trouble})
	return err
}

// ListEnteringRuns lists what rules made of runs, the latest first; runs: of those alone, by number; empty: of all.
func (q Queries) ListEnteringRuns(ctx context.Context, rules []int64, runs []int, limit int) ([]store.EnteringRun,
	error) {
	return db.List[store.EnteringRun](ctx, q, "entering_runs", db.A{"rules": rules, "runs": append([]int{}, runs...),
		"limit": limit})
}

// PutEnteringRun keeps what a rule made of a run, in place of what it made before.
func (q Queries) PutEnteringRun(ctx context.Context, r store.EnteringRun) error {
	_, err := q.Exec(ctx, "entering_run_put", db.A{"entering": r.Entering, "run": r.Run, "ended": r.Ended,
		"fate": r.Fate, "said": r.Said})
	return err
}
