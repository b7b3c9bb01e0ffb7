package runs

import (
	"context"
	"time"

	"kembrel/api"
	"kembrel/service/finding"
	"kembrel/store"
)

// Checkpoints is what runs need to know of checkpoints.
type Checkpoints interface {
	// FindHeld finds a checkpoint whose bytes are here, its files and its id.
	FindHeld(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error)
}

// Judging is told when a run has ended.
type Judging interface {
	Judge(ctx context.Context, run int64) error
	WatchRuns(ctx context.Context, runs []int64) error
}

// Runs answers for runs and their legs.
type Runs struct {
	*finding.Finder
	db          Storage
	readings    store.Readings
	checkpoints Checkpoints
	judging     Judging
	lostAfter   time.Duration // a run without a sign of life for so long is lost
}

// New makes the slice.
func New(f *finding.Finder, db Storage, c Checkpoints, j Judging, lostAfter time.Duration) *Runs {
	return &Runs{Finder: f, db: db, readings: db, checkpoints: c, judging: j, lostAfter: lostAfter}
}
