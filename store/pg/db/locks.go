package db

import (
	"context"
)

// LockRun holds a run until the transaction ends. Whoever changes a leg and its run in one transaction holds the run
// first, as those do who bring summaries up to date: else they wait for each other in a circle.
func (q Q) LockRun(ctx context.Context, run int64) error {
	_, err := One[struct {
		ID    int64
		State string
	}](ctx, q, "run_lock", A{"run": run})
	return err
}

// LockJournal keeps the journal from being sealed until the transaction ends.
func (q Q) LockJournal(ctx context.Context) error {
	_, err := q.Exec(ctx, "journal_lock", nil)
	return err
}

// LockSealing keeps a run from being sealed until the transaction ends.
func (q Q) LockSealing(ctx context.Context, run int64) error {
	_, err := q.Exec(ctx, "seal_lock", A{"run": run})
	return err
}
