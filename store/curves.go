package store

import (
	"kembrel/core/curve"
)

// Count is one batch: its claim to be the next of its leg, and its readings, whose columns are numbered as CurveIDs
// said. Points is how many of its points count as training, which fixes the hyperparameters.
type Count struct {
	Run          int64
	Leg          int
	Recorder     string
	Number, Upto int64
	Points       int
	Batch        curve.Batch
	Payload      []byte // the batch packed, where it came so; nil: it is packed here
}

// Counted is a batch counted: the leg's state and points before it.
type Counted struct {
	Run    int64
	Leg    int
	State  string
	Before int64
}

// RunCurves are the curves that a run has. They must not be changed.
type RunCurves struct {
	Numbers map[string]int // from 1 up, without gaps
	Machine []bool         // at a number less one: one of the machine's own
}

// NewRunCurves are the curves of a run by their numbers.
func NewRunCurves(numbers map[string]int) *RunCurves {
	c := &RunCurves{Numbers: numbers, Machine: make([]bool, len(numbers))}
	for name, number := range numbers {
		if number <= len(c.Machine) {
			c.Machine[number-1] = curve.OfMachine(name)
		}
	}
	return c
}

// Has reports whether there is a curve of this number.
func (c *RunCurves) Has(number int) bool { return 1 <= number && number <= len(c.Machine) }

// OfMachine reports whether a number is that of a curve of the machine's own.
func (c *RunCurves) OfMachine(number int) bool { return c.Machine[number-1] }

// Summary is what one curve of a run comes to.
type Summary struct {
	Run                                      int64
	Curve                                    int
	Name                                     string
	Count, NaN, Infinite                     int64
	LastStep, LastTime, LowStep, LowTime     int64
	HighStep, HighTime                       int64
	LastEpoch, LastValue, LowEpoch, LowValue float64
	HighEpoch, HighValue                     float64
	SketchEvery                              int64
	Sketch                                   []byte // curve.AppendValues
}

// Core is the summary as core computes it.
func (s Summary) Core() curve.Summary {
	var sketch []float64
	if len(s.Sketch) > 0 {
		sketch, _ = curve.DecodeValues(s.Sketch) // a damaged drawing is left out
	}
	return curve.Summary{
		Count: s.Count, NaN: s.NaN, Infinite: s.Infinite,
		Last: curve.Reading{Point: curve.Point{Step: s.LastStep, Epoch: s.LastEpoch, Time: s.LastTime},
			Value: s.LastValue},
		Lowest: curve.Reading{Point: curve.Point{Step: s.LowStep, Epoch: s.LowEpoch, Time: s.LowTime},
			Value: s.LowValue},
		Highest: curve.Reading{Point: curve.Point{Step: s.HighStep, Epoch: s.HighEpoch, Time: s.HighTime},
			Value: s.HighValue},
		Sketch: curve.Sketch{Every: s.SketchEvery, Seen: s.Count, Values: sketch},
	}
}

// Summarised is a run whose summaries were brought up to date.
type Summarised struct {
	Run     int64
	Batches int64 // of all its legs that are summarised now
	Before  int64 // and were before, where the new readings go simply behind those; else -1
	// What came between, of the curve of its project's objective and of the same measure in training.
	Objective, Train []Stretch
}

// Stretch is neighbouring readings of a curve. len(Values) equals len(Points).
type Stretch struct {
	Points []curve.Point
	Values []float64
}
