package pg

import (
	"context"
	"encoding/json"
	"time"

	"kembrel/core/chunk"
)

// Checkpoint is a row of checkpoints.
type Checkpoint struct {
	ID      int64
	Key     string
	Leg     int
	Step    int64
	Epoch   float64
	Why     string
	Figures json.RawMessage
	Saved   time.Time
	Size    int64

	Pinned        bool
	Goes, Dropped *time.Time
	WhyGoes       string
	ByRule        bool
}

// File is a file of a checkpoint; Chunks is packed as chunk.Pack does.
type File struct {
	Checkpoint int64
	Path, Part string
	Size       int64
	Digest     []byte
	Chunks     []byte
}

// CheckpointByKey finds a checkpoint by its idempotency key.
func (q Queries) CheckpointByKey(ctx context.Context, key string) (run int64, c Checkpoint, err error) {
	type row struct {
		Run, ID, Step int64
	}
	r, err := one[row](ctx, q, "checkpoint_by_key", A{"key": key})
	return r.Run, Checkpoint{ID: r.ID, Step: r.Step}, err
}

// AddCheckpoint keeps a checkpoint with its files; false where its leg has one at that step. It belongs in a transaction.
func (q Queries) AddCheckpoint(ctx context.Context, run int64, c Checkpoint, files []File) (id int64, added bool, err error) {
	id, err = value[int64](ctx, q, "checkpoint_add", A{"run": run, "key": c.Key, "leg": c.Leg, "step": c.Step, "epoch": c.Epoch,
		"why": c.Why, "figures": c.Figures, "saved": c.Saved, "size": c.Size})
	if none(err) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	for _, f := range files {
		if _, err := q.exec(ctx, "file_add", A{"run": run, "checkpoint": id, "path": f.Path, "part": f.Part, "size": f.Size,
			"digest": f.Digest, "chunks": f.Chunks}); err != nil {
			return 0, false, err
		}
	}
	return id, true, nil
}

// SavedFile is a file with when its checkpoint was saved.
type SavedFile struct {
	File
	Saved time.Time
}

// FileAt finds one file of the checkpoint that a leg saved at a step; ErrNone where its bytes are not held.
func (q Queries) FileAt(ctx context.Context, run int64, leg int, step int64, path string) (SavedFile, error) {
	return one[SavedFile](ctx, q, "file_at", A{"run": run, "leg": leg, "step": step, "path": path})
}

// ListCheckpoints lists a run's checkpoints, latest step first.
func (q Queries) ListCheckpoints(ctx context.Context, run int64) ([]Checkpoint, error) {
	return list[Checkpoint](ctx, q, "checkpoint_list", A{"run": run})
}

// ListFiles lists the files of one checkpoint of a run, or of all (0).
func (q Queries) ListFiles(ctx context.Context, run, checkpoint int64) ([]File, error) {
	return list[File](ctx, q, "file_list", A{"run": run, "checkpoint": checkpoint})
}

// KnownCheckpoint is a checkpoint with the run that has it.
type KnownCheckpoint struct {
	Project string
	Number  int
	Standing
}

// Standing is where a checkpoint stands in its run.
type Standing struct {
	Leg      int
	Step     int64
	Epoch    float64
	Replaced bool // a later leg began before it
	Shared   bool // a later one of the present course has its epoch
}

// FirstWeights is the fingerprint of the weights that a run saved at step 0, nil where it saved none or they are not read yet.
func (q Queries) FirstWeights(ctx context.Context, run int64) ([]byte, error) {
	rows, err := list[struct{ Weights []byte }](ctx, q, "weights_first", A{"run": run})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0].Weights, nil
}

// KnownWeights finds the first checkpoint, of another run that began earlier, whose weights have a fingerprint; nil where there is none.
func (q Queries) KnownWeights(ctx context.Context, run int64, weights chunk.Digest) (*KnownCheckpoint, error) {
	rows, err := list[KnownCheckpoint](ctx, q, "weights_known", A{"run": run, "weights": weights[:]})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// Start is what is kept of how a run began.
type Start struct {
	ID            int64
	Start, Origin json.RawMessage
}

// StartOf reads it.
func (q Queries) StartOf(ctx context.Context, run int64) (Start, error) {
	return one[Start](ctx, q, "run_start", A{"run": run})
}

// PendingTensors lists files of weights that nobody has looked into yet, each digest perhaps several times.
func (q Queries) PendingTensors(ctx context.Context) ([]PendingFile, error) {
	return list[PendingFile](ctx, q, "tensors_pending", nil)
}

// PendingFile is such a file.
type PendingFile struct {
	Digest          []byte
	Run, Checkpoint int64
	Path            string
}

// TensorFile is what is known of the tensors in a file.
type TensorFile struct {
	Digest     []byte
	Weights    []byte // fingerprint; nil where the file could not be read
	Problem    string
	Tensors    json.RawMessage
	Parameters *int64     // values in all of them; nil: not known
	Again      *time.Time // when to try again; nil: what is known is final
}

// SetTensors keeps what is known of a file's tensors.
func (q Queries) SetTensors(ctx context.Context, t TensorFile) error {
	_, err := q.exec(ctx, "tensors_set", A{"digest": t.Digest, "weights": t.Weights, "problem": t.Problem, "tensors": t.Tensors, "parameters": t.Parameters, "again": t.Again})
	return err
}

// Tensors reads what is known of files, as far as it is.
func (q Queries) Tensors(ctx context.Context, digests [][]byte) ([]TensorFile, error) {
	return list[TensorFile](ctx, q, "tensors_of", A{"digests": digests})
}

// Verification is a person's evaluation of a restored checkpoint.
type Verification struct {
	Checkpoint int64
	At         time.Time
	Who, Host  string
	Result     json.RawMessage
}

// AddVerification keeps one.
func (q Queries) AddVerification(ctx context.Context, run, checkpoint, person int64, host string, result any) error {
	_, err := q.exec(ctx, "verification_add", A{"run": run, "checkpoint": checkpoint, "person": person, "host": host, "result": result})
	return err
}

// ListVerifications lists those of a run's checkpoints, the latest first for each.
func (q Queries) ListVerifications(ctx context.Context, run int64) ([]Verification, error) {
	return list[Verification](ctx, q, "verification_list", A{"run": run})
}

// CheckpointStats counts a run's checkpoints and their bytes.
func (q Queries) CheckpointStats(ctx context.Context, run int64) (count, size int64, err error) {
	r, err := one[struct{ Count, Size int64 }](ctx, q, "checkpoint_stats", A{"run": run})
	return r.Count, r.Size, err
}
