package runs

import (
	"context"
	"encoding/json"
	"time"

	"kembrel/core/chunk"
	"kembrel/core/filter"
	"kembrel/service/act"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	store.Readings
	CachedCurves(ctx context.Context, run int64, names []string, highest int) (*store.RunCurves, error)
	CountTogether(ctx context.Context, c store.Count) (store.Counted, error)
	CurveIDs(ctx context.Context, run int64, names []string) (map[string]int, error)
	DueRuns(ctx context.Context) ([]store.DueRun, error)
	FindRuns(ctx context.Context, in store.RunQuery) ([]store.RunPlace, error)
	FindSnapshot(ctx context.Context, name string, number int) (store.Snapshot, error)
	FindSplit(ctx context.Context, dataset string, pairs, keys, digests *chunk.Digest) ([]store.SplitAt, error)
	FirstWeights(ctx context.Context, run int64) ([]byte, error)
	Judgements(ctx context.Context, runs []int64) ([]store.Judgement, error)
	KnownWeights(ctx context.Context, run int64, weights chunk.Digest) (*store.KnownCheckpoint, error)
	Leg(ctx context.Context, run int64, leg int) (store.LegState, error)
	LegNews(ctx context.Context, run int64, leg int) (store.LegNews, error)
	ListOutput(ctx context.Context, run int64, after int64) ([]store.Output, error)
	RunByKey(ctx context.Context, key string) (id int64, number int, project int64, err error)
	RunTitles(ctx context.Context, project int64, numbers []int64) ([]store.Run, error)
	RunValues(ctx context.Context, in store.RunQuery, numbers []int64,
		expressions []*filter.Node) (map[int64][]json.RawMessage, error)
	RunsByNumber(ctx context.Context, project int64, numbers []int64) ([]store.Run, error)
	SetRepeats(ctx context.Context, run int64, repeats any) error
	SnapshotSplits(ctx context.Context, snapshot int64) ([]store.SnapshotSplit, error)
	StartOf(ctx context.Context, run int64) (store.Start, error)
	Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error)
	SummariseRun(ctx context.Context, run int64) (mine bool, err error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx // events
	AddLeg(ctx context.Context, run int64, l store.NewLeg) (int, error)
	ReportOnce(ctx context.Context, subscription, event int64, purpose string) (bool, error)
	AddNote(ctx context.Context, run int64, n store.Note) error
	AddOutput(ctx context.Context, run int64, recorder string, o store.Output, keep int64) error
	AddRun(ctx context.Context, r store.NewRun) (id int64, number int, err error)
	ArchiveRun(ctx context.Context, run int64, archived bool) error
	ChangeRun(ctx context.Context, id int64, title *string, tags []string, note *string) error
	ClaimLeg(ctx context.Context, run int64, leg int, recorder string) error
	UnstopRun(ctx context.Context, run int64) error
	CountBatch(ctx context.Context, c store.Count) (store.Counted, error)
	CurveIDs(ctx context.Context, run int64, names []string) (map[string]int, error)
	DoomRun(ctx context.Context, run int64, days *float64) error
	EndLeg(ctx context.Context, e store.Ending) (newest bool, err error)
	EraseRun(ctx context.Context, run int64) (bool, error)
	Hyper(ctx context.Context, run int64) (map[string]json.RawMessage, error)
	LegByKey(ctx context.Context, run int64, key string, alive float64) (store.HeldLeg, error)
	LegKeyElsewhere(ctx context.Context, run int64, key string) (bool, error)
	LockRun(ctx context.Context, run int64) error
	LoseLegs(ctx context.Context, after float64) ([]store.LostLeg, error)
	PutRunData(ctx context.Context, d store.RunData) error
	NewestLeg(ctx context.Context, run int64, alive float64) (store.HeldLeg, error)
	ProgramSays(ctx context.Context, run int64, recipe any, needs []string, start any) error
	Recipe(ctx context.Context, run int64) (json.RawMessage, error)
	ReleaseChunks(ctx context.Context, run int64, checkpoint int64) error
	ReviveLeg(ctx context.Context, run int64, leg int) (bool, error)
	SeeLeg(ctx context.Context, run int64, leg int, recorder string) (string, error)
	SetHyper(ctx context.Context, run int64, values map[string]json.RawMessage) error
	SetRunState(ctx context.Context, id int64, state string, ended *time.Time) (bool, error)
	SetRunStopRule(ctx context.Context, run int64, rule any) error
	StartOf(ctx context.Context, run int64) (store.Start, error)
}
