package store

import (
	"context"

	"kembrel/core/curve"
)

// Span asks for the readings of a run.
type Span struct {
	Run      int64
	Names    []string // nil: all
	From, To int64    // steps, both included; To 0: to the end
	Leg      int      // only this leg, whole; 0: all, each as far as no later one replaces it
}

// Folded is a curve by pixels.
type Folded struct {
	Folds  []curve.Fold
	Smooth []float64 // of each fold; nil: not asked for
}

// Readings is the reading side of curves, whatever form they are stored in: the legs of a run joined, each curve in the
// order of its steps. Implementations may be called from many goroutines, while the same run is written and sealed.
type Readings interface {
	// Scan hands over all readings of a span, curve by curve in the order of names, each in stretches of bounded
	// length, of points and values of equal length that must not be kept. A curve that is not there is left out. An
	// error of do ends it and is returned.
	Scan(ctx context.Context, span Span, do func(name string, points []curve.Point, values []float64) error) error

	// View folds the curves of a span, whose steps are not looked at, by the pixels of a window, reading the coarsest
	// level of folds that is fine enough. A pixel's count, extremes and mean are of all its readings; a fold may be
	// counted up to a quarter of a pixel off. Curves without a reading in the window are left out. Smoothing takes a
	// fold for as many readings of its mean.
	View(ctx context.Context, span Span, window curve.Window, smoothing curve.Smoothing) (map[string]Folded, error)

	// Extent is the first and the last point of the named curves (nil: all) of a run, on an axis; ok is false where it
	// has none.
	Extent(ctx context.Context, run int64, by curve.By) (from, to float64, ok bool, err error)
}
