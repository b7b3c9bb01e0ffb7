package store

import (
	"context"

	"kembrel/core/curve"
)

// Position is how far a run's readings have been read: all batches up to this one of this leg.
type Position struct {
	Leg   int
	Batch int64
}

// Span asks for readings of a run.
type Span struct {
	Run      int64
	Names    []string // nil: all
	From, To int64    // steps, both included
	After    Position // zero: from the beginning
}

// Curves is what a Span answers. Where Whole is set, a later leg has cut into what was there at After, so the
// curves are complete and replace what was read before.
type Curves struct {
	Position Position
	Whole    bool
	ByName   map[string][]curve.Reading
}

// Readings is the reading side of curves, whatever form they are stored in: the legs of a run joined, in the order of
// steps. Implementations may be called from many goroutines.
type Readings interface {
	ReadCurves(ctx context.Context, span Span) (Curves, error)
}
