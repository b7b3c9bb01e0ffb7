package checkpoints

import (
	"context"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// CheckpointByKey finds a checkpoint by its idempotency key.
func (q Queries) CheckpointByKey(ctx context.Context, key string) (run int64, c store.Checkpoint, err error) {
	type row struct {
		Run, ID, Step int64
	}
	r, err := db.One[row](ctx, q, "checkpoint_by_key", db.A{"key": key})
	return r.Run, store.Checkpoint{ID: r.ID, Step: r.Step}, err
}

// AddCheckpoint keeps a checkpoint with its files; false where its leg has one at that step. It belongs in a
// transaction.
func (q Queries) AddCheckpoint(ctx context.Context, run int64, c store.Checkpoint,
	files []store.File) (id int64, added bool, err error) {
	id, err = db.Value[int64](ctx, q, "checkpoint_add", db.A{"run": run, "key": c.Key, "leg": c.Leg,
		"step": c.Step, "epoch": c.Epoch,
		"why": c.Why, "figures": c.Figures, "saved": c.Saved, "size": c.Size})
	if db.None(err) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	for _, f := range files {
		if _, err := q.Exec(ctx, "file_add", db.A{"run": run, "checkpoint": id, "path": f.Path,
			"part": f.Part, "size": f.Size,
			"digest": f.Digest, "chunks": f.Chunks}); err != nil {
			return 0, false, err
		}
	}
	return id, true, nil
}

// FileAt finds one file of the checkpoint that a leg saved at a step; ErrNone where its bytes are not held.
func (q Queries) FileAt(ctx context.Context, run int64, leg int, step int64, path string) (store.SavedFile, error) {
	return db.One[store.SavedFile](ctx, q, "file_at", db.A{"run": run, "leg": leg, "step": step, "path": path})
}

// ListCheckpoints lists a run's checkpoints, latest step first.
func (q Queries) ListCheckpoints(ctx context.Context, run int64) ([]store.Checkpoint, error) {
	return db.List[store.Checkpoint](ctx, q, "checkpoint_list", db.A{"run": run})
}

// ListFiles lists the files of one checkpoint of a run, or of all (0).
func (q Queries) ListFiles(ctx context.Context, run, checkpoint int64) ([]store.File, error) {
	return db.List[store.File](ctx, q, "file_list", db.A{"run": run, "checkpoint": checkpoint})
}

// CheckpointStats counts a run's checkpoints and their bytes.
func (q Queries) CheckpointStats(ctx context.Context, run int64) (count, size int64, err error) {
	r, err := db.One[struct{ Count, Size int64 }](ctx, q, "checkpoint_stats", db.A{"run": run})
	return r.Count, r.Size, err
}

// SizedBeside sums up what runs of a project (0: all) keep beside checkpoints.
func (q Queries) SizedBeside(ctx context.Context, project int64) ([]store.SizedKind, error) {
	return db.List[store.SizedKind](ctx, q, "sized_beside", db.A{"project": project})
}
