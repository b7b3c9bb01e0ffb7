package curve

import "math"

// Summary is what a curve comes to: how many readings, the last one, and the extremes with where they were. Only finite
// values can be lowest or highest; a curve without one has Lowest and Highest of value NaN.
type Summary struct {
	Count    int64
	NaN      int64 // readings that are NaN
	Infinite int64
	Last     Reading
	Lowest   Reading
	Highest  Reading
	Sketch   Sketch
}

// NewSummary is the summary of no readings.
func NewSummary() Summary {
	none := Reading{Point: Point{Epoch: math.NaN()}, Value: math.NaN()}
	return Summary{Last: none, Lowest: none, Highest: none}
}

// Add counts one more reading, O(1). Of equal extremes the earlier one stays.
func (s *Summary) Add(r Reading) {
	s.Count++
	s.Last = r
	s.Sketch.add(r.Value)
	switch {
	case math.IsNaN(r.Value):
		s.NaN++
		return
	case math.IsInf(r.Value, 0):
		s.Infinite++
		return
	}
	if math.IsNaN(s.Lowest.Value) || r.Value < s.Lowest.Value {
		s.Lowest = r
	}
	if math.IsNaN(s.Highest.Value) || r.Value > s.Highest.Value {
		s.Highest = r
	}
}

// Sketch is a curve in at most sketchSize values, one of every Every readings, for a drawing the size of a word.
type Sketch struct {
	Every  int64 // 0: no reading yet; NoSketch: none is kept
	Seen   int64 // readings so far
	Values []float64
}

const sketchSize = 64

// NoSketch as Sketch.Every says that no sketch is kept of a curve.
const NoSketch = -1

// SketchOf is a sketch made of values that were taken evenly from all count readings, at most sketchSize of them.
func SketchOf(count int64, values []float64) Sketch {
	s := Sketch{Every: 1, Seen: count, Values: values[max(0, len(values)-sketchSize):]}
	for (count+s.Every-1)/s.Every > sketchSize {
		s.Every *= 2
	}
	return s
}

func (s *Sketch) add(v float64) {
	if s.Every == NoSketch {
		return
	}
	s.Every = max(s.Every, 1)
	if s.Seen%s.Every == 0 {
		if len(s.Values) == sketchSize {
			for i := range sketchSize / 2 {
				s.Values[i] = s.Values[2*i]
			}
			s.Values = s.Values[:sketchSize/2]
			s.Every *= 2
		}
		if s.Seen%s.Every == 0 {
			s.Values = append(s.Values, v)
		}
	}
	s.Seen++
}
