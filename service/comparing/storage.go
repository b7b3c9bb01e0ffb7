package comparing

import (
	"context"
	"encoding/json"

	"kembrel/core/filter"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	CachedCurves(ctx context.Context, run int64, names []string, highest int) (*store.RunCurves, error)
	FindRuns(ctx context.Context, in store.RunQuery) ([]store.RunPlace, error)
	Landmarks(ctx context.Context, in store.RunQuery, every int) ([]store.Landmark, error)
	LatestEvaluations(ctx context.Context, runs []int64) ([]store.LatestEvaluation, error)
	RunByNumber(ctx context.Context, project int64, number int) (store.Run, error)
	RunData(ctx context.Context, runs []int64) ([]store.RunData, error)
	RunValues(ctx context.Context, in store.RunQuery, numbers []int64,
		expressions []*filter.Node) (map[int64][]json.RawMessage, error)
	RunsByNumber(ctx context.Context, project int64, numbers []int64) ([]store.Run, error)
	Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error)
}
