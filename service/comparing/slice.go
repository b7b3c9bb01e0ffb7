package comparing

import (
	"context"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/finding"
)

// Curves is where the curves of runs that are compared come from.
type Curves interface {
	GetCurves(ctx context.Context, who act.Who, in *api.CurvesInput) (*api.Curves, error)
}

// Comparing answers for comparisons.
type Comparing struct {
	*finding.Finder
	db     Storage
	curves Curves
}

// New makes the slice.
func New(f *finding.Finder, db Storage, c Curves) *Comparing {
	return &Comparing{Finder: f, db: db, curves: c}
}
