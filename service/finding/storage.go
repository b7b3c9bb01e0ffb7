package finding

import (
	"context"
	"encoding/json"

	"kembrel/core/filter"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	FindRuns(ctx context.Context, in store.RunQuery) ([]store.RunPlace, error)
	Landmarks(ctx context.Context, in store.RunQuery, every int) ([]store.Landmark, error)
	ListLegs(ctx context.Context, run int64) ([]store.Leg, error)
	ProjectByKey(ctx context.Context, key string) (store.Project, error)
	Recipes(ctx context.Context, runs []int64) (map[int64]json.RawMessage, error)
	RunByNumber(ctx context.Context, project int64, number int) (store.Run, error)
	RunID(ctx context.Context, project string, number int) (int64, error)
	RunValues(ctx context.Context, in store.RunQuery, numbers []int64,
		expressions []*filter.Node) (map[int64][]json.RawMessage, error)
	RunsByNumber(ctx context.Context, project int64, numbers []int64) ([]store.Run, error)
	Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error)
	Words(ctx context.Context, project int64) ([]store.Word, error)
}
