package lineage

import (
	"context"

	"kembrel/api"
	"kembrel/service/finding"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	EditionNamed(ctx context.Context, model string, number int) (store.NamedEdition, error)
	FindSnapshot(ctx context.Context, dataset string, number int) (store.Snapshot, error)
	LineageDown(ctx context.Context, seen store.Seen, keys []store.LineageKey, limit int) ([]store.LineageKey, error)
	LineageNodes(ctx context.Context, keys []store.LineageKey) ([]store.LineageNode, error)
	LineageUp(ctx context.Context, keys []store.LineageKey) ([]store.LineageLink, error)
	ListEvaluations(ctx context.Context, e store.EvaluationQuery) ([]store.Evaluation, error)
}

// Checkpoints finds a checkpoint by its address, with its id.
type Checkpoints interface {
	FindWith(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error)
}

// Lineage answers for lineage.
type Lineage struct {
	*finding.Finder
	db          Storage
	checkpoints Checkpoints
}

// New makes the slice.
func New(f *finding.Finder, db Storage, c Checkpoints) *Lineage {
	return &Lineage{Finder: f, db: db, checkpoints: c}
}
