package curve

import (
	"fmt"
	"iter"
	"math"
)

// Point is where a reading stands.
type Point struct {
	Step  int64   // optimiser steps since the run began; never falls within a leg
	Epoch float64 // passes over the training data, fractions allowed; NaN where the program did not say
	Time  int64   // milliseconds since 1970-01-01 UTC
}

// Reading is one value on a curve.
type Reading struct {
	Point
	Value float64
}

// Column holds the values of one curve in a batch. Rows are the indices into the batch's axis, rising; nil means that
// there is a value for every row.
type Column struct {
	Curve  int
	Rows   []int
	Values []float64
}

// Batch is what one request brings: some points, and for each curve its values at all or some of them.
type Batch struct {
	Axis    []Point
	Columns []Column
}

// MaxRows and MaxColumns bound one batch, so that a hostile one cannot take the memory.
const (
	MaxRows    = 1 << 24
	MaxColumns = 1 << 14
)

// Check says what is wrong with a batch, or nil: its steps must not fall below one another nor below after, the last
// step of its leg so far, and each column must fit the axis.
func (b Batch) Check(after int64) error {
	if len(b.Axis) > MaxRows || len(b.Columns) > MaxColumns {
		return fmt.Errorf("batch of %d points and %d curves is too large (at most %d and %d)", len(b.Axis),
			len(b.Columns), MaxRows, MaxColumns)
	}
	for i, p := range b.Axis {
		if p.Step < after {
			return fmt.Errorf("point %d goes back from step %d to step %d; within a leg the step never falls", i, after,
				p.Step)
		}
		if math.IsInf(p.Epoch, 0) || p.Epoch < 0 {
			return fmt.Errorf("point %d has epoch %v; an epoch is a number from 0 up", i, p.Epoch)
		}
		after = p.Step
	}
	for _, c := range b.Columns {
		if err := c.check(len(b.Axis)); err != nil {
			return fmt.Errorf("curve %d of the batch: %w", c.Curve, err)
		}
	}
	return nil
}

func (c Column) check(points int) error {
	if c.Rows == nil {
		if len(c.Values) != points {
			return fmt.Errorf("%d values for %d points", len(c.Values), points)
		}
		return nil
	}
	if len(c.Rows) != len(c.Values) {
		return fmt.Errorf("%d values for %d rows", len(c.Values), len(c.Rows))
	}
	last := -1
	for _, r := range c.Rows {
		if r <= last || r >= points {
			return fmt.Errorf("row %d after row %d of %d points", r, last, points)
		}
		last = r
	}
	return nil
}

// Readings lists the column's readings with their points.
func (b Batch) Readings(c Column) []Reading {
	out := make([]Reading, len(c.Values))
	for i, v := range c.Values {
		row := i
		if c.Rows != nil {
			row = c.Rows[i]
		}
		out[i] = Reading{Point: b.Axis[row], Value: v}
	}
	return out
}

// Points lists the points at which a column has values.
func (b Batch) Points(c Column) []Point {
	if c.Rows == nil {
		return b.Axis
	}
	out := make([]Point, len(c.Rows))
	for i, row := range c.Rows {
		out[i] = b.Axis[row]
	}
	return out
}

// Parts cuts a batch into batches of at most so many points. Columns without a value there are left out. The values are
// shared.
func (b Batch) Parts(points int) iter.Seq[Batch] {
	return func(yield func(Batch) bool) {
		at := make([]int, len(b.Columns))
		for from := 0; from < len(b.Axis); from += points {
			to := min(from+points, len(b.Axis))
			part := Batch{Axis: b.Axis[from:to]}
			for i, c := range b.Columns {
				first := at[i]
				if c.Rows == nil {
					part.Columns = append(part.Columns, Column{Curve: c.Curve, Values: c.Values[from:to]})
					continue
				}
				var rows []int
				for at[i] < len(c.Rows) && c.Rows[at[i]] < to {
					rows = append(rows, c.Rows[at[i]]-from)
					at[i]++
				}
				if len(rows) > 0 {
					part.Columns = append(part.Columns, Column{Curve: c.Curve, Rows: rows,
						Values: c.Values[first:at[i]]})
				}
			}
			if !yield(part) {
				return
			}
		}
	}
}
