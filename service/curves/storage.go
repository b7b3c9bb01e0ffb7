package curves

import (
	"context"

	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	store.Readings
	CachedCurves(ctx context.Context, run int64, names []string, highest int) (*store.RunCurves, error)
	ListLegs(ctx context.Context, run int64) ([]store.Leg, error)
	Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error)
}
