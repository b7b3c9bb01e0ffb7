package checkpoints

import (
	"context"
	"encoding/json"
	"time"

	"kembrel/core/chunk"
	"kembrel/core/filter"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

// Storage is what this slice needs of the store.
type Storage interface {
	pack.Contents
	Beginnings(ctx context.Context) ([]store.Beginning, error)
	CheckpointByKey(ctx context.Context, key string) (run int64, c store.Checkpoint, err error)
	CheckpointSums(ctx context.Context, by string, project int64) ([]store.CheckpointSum, error)
	ChunkSlice(ctx context.Context, after []byte, upto []byte, limit int) ([]pack.Entry, error)
	SizedBeside(ctx context.Context, project int64) ([]store.SizedKind, error)
	ChunkTotals(ctx context.Context) (store.ChunkTotals, error)
	ChunksBehind(ctx context.Context, name string, at int64, digest []byte, share float64,
		limit int) ([]pack.Entry, error)
	CleanChunks(ctx context.Context, grace time.Duration) (int64, error)
	FileAt(ctx context.Context, run int64, leg int, step int64, path string) (store.SavedFile, error)
	Held(ctx context.Context, in store.HeldQuery) (map[int64]store.Held, error)
	Holders(ctx context.Context, digest chunk.Digest) ([]store.Holder, error)
	KeepCandidates(ctx context.Context, project int64, numbers []int64) ([]store.KeepCandidate, error)
	KeepRules(ctx context.Context, project int64, run int64) (ofProject json.RawMessage,
		ofRun json.RawMessage, err error)
	LeaseChunks(ctx context.Context, digests []chunk.Digest) error
	Leg(ctx context.Context, run int64, leg int) (store.LegState, error)
	ListCheckpoints(ctx context.Context, run int64) ([]store.Checkpoint, error)
	ListFiles(ctx context.Context, run int64, checkpoint int64) ([]store.File, error)
	ProjectsKeeping(ctx context.Context) ([]store.Keeping, error)
	RunValues(ctx context.Context, in store.RunQuery, numbers []int64,
		expressions []*filter.Node) (map[int64][]json.RawMessage, error)
	WhileCleaning(ctx context.Context, do func() error) (bool, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	AddCheckpoint(ctx context.Context, run int64, c store.Checkpoint, files []store.File) (id int64,
		added bool, err error)
	act.Tx // events
	store.InTx
	CheckpointsGo(ctx context.Context, checkpoints []int64, stay time.Duration, why string, byRule bool) (int64, error)
	CheckpointsStay(ctx context.Context, checkpoints []int64, byRule bool) (int64, error)
	DropDueCheckpoint(ctx context.Context, after int64) (due store.DueCheckpoint, ok bool, err error)
	PinCheckpoint(ctx context.Context, run int64, checkpoint int64, pinned bool) (bool, error)
	SetProjectKeepRule(ctx context.Context, project int64, rule any) error
	SetRunKeepRule(ctx context.Context, run int64, rule any) error
	UseChunks(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]int64, error)
}
