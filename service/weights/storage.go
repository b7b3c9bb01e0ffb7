package weights

import (
	"context"

	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	ListFiles(ctx context.Context, run int64, checkpoint int64) ([]store.File, error)
	PendingTensors(ctx context.Context) ([]store.PendingFile, error)
	SetTensors(ctx context.Context, t store.TensorFile) error
	Tensors(ctx context.Context, digests [][]byte) ([]store.TensorFile, error)
}
