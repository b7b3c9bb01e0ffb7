package runs

import (
	"context"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ArchiveRun puts a run out of the way, or brings it back.
func (q Queries) ArchiveRun(ctx context.Context, run int64, archived bool) error {
	_, err := q.Exec(ctx, "run_archive", db.A{"run": run, "archived": archived})
	return err
}

// DoomRun has a run deleted in some days; nil: it stays.
func (q Queries) DoomRun(ctx context.Context, run int64, days *float64) error {
	_, err := q.Exec(ctx, "run_doom", db.A{"run": run, "days": days})
	return err
}

// DueRuns lists some of them.
func (q Queries) DueRuns(ctx context.Context) ([]store.DueRun, error) {
	return db.List[store.DueRun](ctx, q, "runs_due", db.A{})
}

// EraseRun deletes a run whose grace period is over with all that belongs to it; false where it is not over. It belongs
// in a transaction that has released its chunks before.
func (q Queries) EraseRun(ctx context.Context, run int64) (bool, error) {
	if err := q.LockJournal(ctx); err != nil { // nothing is sealed meanwhile
		return false, err
	}
	if err := q.LockSealing(ctx, run); err != nil {
		return false, err
	}
	n, err := q.Exec(ctx, "run_erase", db.A{"run": run})
	return n > 0, err
}
