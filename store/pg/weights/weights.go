package weights

import (
	"context"

	"kembrel/core/chunk"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// FirstWeights is the fingerprint of the weights that a run saved at step 0, nil where it saved none or they are not
// read yet.
func (q Queries) FirstWeights(ctx context.Context, run int64) ([]byte, error) {
	rows, err := db.List[struct{ Weights []byte }](ctx, q, "weights_first", db.A{"run": run})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0].Weights, nil
}

// KnownWeights finds the first checkpoint, of another run that began earlier, whose weights have a fingerprint; nil
// where there is none.
func (q Queries) KnownWeights(ctx context.Context, run int64, weights chunk.Digest) (*store.KnownCheckpoint, error) {
	rows, err := db.List[store.KnownCheckpoint](ctx, q, "weights_known", db.A{"run": run, "weights": weights[:]})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// PendingTensors lists files of weights that nobody has looked into yet, each digest perhaps several times.
func (q Queries) PendingTensors(ctx context.Context) ([]store.PendingFile, error) {
	return db.List[store.PendingFile](ctx, q, "tensors_pending", nil)
}

// SetTensors keeps what is known of a file's tensors.
func (q Queries) SetTensors(ctx context.Context, t store.TensorFile) error {
	_, err := q.Exec(ctx, "tensors_set", db.A{"digest": t.Digest, "weights": t.Weights, "problem": t.Problem,
		"tensors": t.Tensors, "parameters": t.Parameters, "again": t.Again})
	return err
}

// Tensors reads what is known of files, as far as it is.
func (q Queries) Tensors(ctx context.Context, digests [][]byte) ([]store.TensorFile, error) {
	return db.List[store.TensorFile](ctx, q, "tensors_of", db.A{"digests": digests})
}
