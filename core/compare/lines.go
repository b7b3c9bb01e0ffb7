package compare

import (
	"math"
	"slices"
	"sort"
)

// Line is a curve as points, X not falling.
type Line struct{ X, Y []float64 }

// At is a line's value at x, on a straight line between the points beside it; NaN outside it, and beside values that
// are not finite. O(log n).
func (l Line) At(x float64) float64 {
	i := sort.SearchFloat64s(l.X, x)
	switch {
	case i == len(l.X):
		return math.NaN()
	case l.X[i] == x:
		for i+1 < len(l.X) && l.X[i+1] == x { // the last reading of a place counts
			i++
		}
		return l.Y[i]
	case i == 0:
		return math.NaN()
	}
	return l.Y[i-1] + (l.Y[i]-l.Y[i-1])*(x-l.X[i-1])/(l.X[i]-l.X[i-1])
}

// Less is what is left of a line when a base line is taken off: at the places of the line that the base covers.
func Less(l, base Line) Line {
	var out Line
	for i, x := range l.X {
		if y := base.At(x); !math.IsNaN(y) {
			out.X, out.Y = append(out.X, x), append(out.Y, l.Y[i]-y)
		}
	}
	return out
}

// Band is the mean of several lines and between what they lie, at every place that any of them has and all cover.
func Band(lines []Line) (mean Line, lowest, highest []float64) {
	var xs []float64
	for _, l := range lines {
		xs = append(xs, l.X...)
	}
	slices.Sort(xs)
	for _, x := range slices.Compact(xs) {
		sum, low, high := 0.0, math.Inf(1), math.Inf(-1)
		for _, l := range lines {
			y := l.At(x)
			sum, low, high = sum+y, math.Min(low, y), math.Max(high, y)
		}
		if math.IsNaN(sum) {
			continue
		}
		mean.X, mean.Y = append(mean.X, x), append(mean.Y, sum/float64(len(lines)))
		lowest, highest = append(lowest, low), append(highest, high)
	}
	return mean, lowest, highest
}
