package evaluations

import (
	"context"
	"encoding/json"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	EvaluationByKey(ctx context.Context, key string) (run int64, number int, err error)
	EvaluationSheets(ctx context.Context, run int64, ids []int64) ([]store.EvaluatedSheet, error)
	FindSnapshot(ctx context.Context, dataset string, number int) (store.Snapshot, error)
	ListEvaluations(ctx context.Context, e store.EvaluationQuery) ([]store.Evaluation, error)
	NoteEvaluation(ctx context.Context, key string, notes json.RawMessage) error
	RunData(ctx context.Context, runs []int64) ([]store.RunData, error)
	SnapshotSplits(ctx context.Context, snapshot int64) ([]store.SnapshotSplit, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx
	AddEvaluation(ctx context.Context, e store.Evaluation, person int64) (number int, err error)
}

// Checkpoints finds a checkpoint by its address, with its id, and lists those of a run with theirs.
type Checkpoints interface {
	Checkpoints(ctx context.Context, in api.RunInput) ([]api.Checkpoint, []int64, error)
	FindWith(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error)
}

// Evaluations answers for evaluations.
type Evaluations struct {
	*finding.Finder
	db          Storage
	checkpoints Checkpoints
}

// New makes the slice; it finds checkpoints in what FindIn names.
func New(f *finding.Finder, db Storage) *Evaluations { return &Evaluations{Finder: f, db: db} }

// FindIn says where checkpoints are found. It is called once, before anything is asked.
func (s *Evaluations) FindIn(c Checkpoints) { s.checkpoints = c }
