package weights

import (
	"context"
	"io"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"kembrel/api"
	"kembrel/service/finding"
	"kembrel/store"
)

// Checkpoints is what weights are read from.
type Checkpoints interface {
	// Checkpoints lists a run's checkpoints, with their ids beside.
	Checkpoints(ctx context.Context, in api.RunInput) ([]api.Checkpoint, []int64, error)
	// Find finds one with its files; FindHeld one whose bytes are here, with its id.
	Find(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, error)
	FindHeld(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error)
	// Content reads a file of a checkpoint.
	Content(ctx context.Context, f store.File) (io.ReadSeeker, error)
}

// Weights answers for tensors.
type Weights struct {
	*finding.Finder
	db          Storage
	checkpoints Checkpoints
	jobs        atomic.Pointer[river.Client[pgx.Tx]] // nil: not begun yet
	differing   chan struct{}                        // holds one for each comparison of weights under way
}

// New makes the slice; it reads from what ReadFrom names.
func New(f *finding.Finder, db Storage) *Weights {
	return &Weights{Finder: f, db: db, differing: make(chan struct{}, 2)}
}

// ReadFrom says where checkpoints are found. It is called once, before anything is asked.
func (s *Weights) ReadFrom(c Checkpoints) { s.checkpoints = c }

// WorkIn gives files to look into to this client from now on.
func (s *Weights) WorkIn(jobs *river.Client[pgx.Tx]) { s.jobs.Store(jobs) }

// Inspector is the worker that looks into files.
func (s *Weights) Inspector() *Inspect { return &Inspect{service: s} }
