package verdict

import (
	"math"
	"slices"

	"kembrel/core/curve"
)

// Series is one curve as it is judged: a mean per epoch (or per stretch of steps, where epochs are unknown), in their
// order.
type Series struct {
	X      []float64 // epochs, or steps
	Y      []float64 // means of the finite readings
	Broken []float64 // places whose last reading is not finite
	End    float64   // the last place with any reading
}

// FromFolds makes a series of folds by epoch or by step. A fold is placed at its last reading, so that what was read
// per step within epoch 12 stands with what was read at its end.
func FromFolds(by curve.By, folds []curve.Fold) Series {
	s := Series{End: math.NaN()}
	for _, f := range folds {
		x := by.At(f.Last.Point)
		if by == curve.ByEpoch {
			x = curve.InEpoch(x)
		}
		s.End = x
		if v := f.Last.Value; math.IsNaN(v) || math.IsInf(v, 0) {
			s.Broken = append(s.Broken, x)
		}
		if f.Finite() == 0 {
			continue
		}
		if n := len(s.X); n > 0 && s.X[n-1] == x { // readings of one epoch that fell into two folds
			s.Y[n-1] = f.Mean
			continue
		}
		s.X, s.Y = append(s.X, x), append(s.Y, f.Mean)
	}
	return s
}

// Behind is a series with what came before it: the part of another that lies before its first place. A branch is judged
// so, as it goes on from what its parent had learnt.
func (s Series) Behind(before Series) Series {
	if len(s.X) == 0 {
		return s
	}
	n := 0
	for n < len(before.X) && before.X[n] < s.X[0] {
		n++
	}
	out := Series{X: slices.Concat(before.X[:n], s.X), Y: slices.Concat(before.Y[:n], s.Y), End: s.End}
	for _, x := range before.Broken {
		if x < s.X[0] {
			out.Broken = append(out.Broken, x)
		}
	}
	out.Broken = append(out.Broken, s.Broken...)
	return out
}

// times is the series with every value multiplied, so that lower is always better.
func (s Series) times(sign float64) Series {
	out := Series{X: s.X, Broken: s.Broken, End: s.End, Y: make([]float64, len(s.Y))}
	for i, v := range s.Y {
		out.Y[i] = sign * v
	}
	return out
}

// wholeBetween reports whether there is a place between two whose readings did not end broken.
func (s Series) wholeBetween(a, b float64) bool {
	for _, x := range s.X {
		if x > a && x < b && !slices.Contains(s.Broken, x) {
			return true
		}
	}
	return false
}

// between is the part of the series from a to b, both included.
func (s Series) between(a, b float64) []float64 {
	var out []float64
	for i, x := range s.X {
		if x >= a && x <= b {
			out = append(out, s.Y[i])
		}
	}
	return out
}

func median(v []float64) float64 {
	if len(v) == 0 {
		return math.NaN()
	}
	v = slices.Clone(v)
	m := len(v) / 2
	high := choose(v, m)
	if len(v)%2 == 1 {
		return high
	}
	low := slices.Max(v[:m])
	if low == high { // infinities too
		return high
	}
	return low + (high-low)/2
}

// choose is the value that would stand at place k if all were sorted; those before it are then no greater. The values
// are put in another order, and none may be NaN. O(n) on the average (Hoare, "Algorithm 65: Find", 1961).
func choose(v []float64, k int) float64 {
	low, high := 0, len(v)-1
	for low < high {
		pivot := v[low+(high-low)/2]
		i, j := low, high
		for i <= j {
			for v[i] < pivot {
				i++
			}
			for pivot < v[j] {
				j--
			}
			if i <= j {
				v[i], v[j] = v[j], v[i]
				i++
				j--
			}
		}
		switch {
		case k <= j:
			high = j
		case k >= i:
			low = i
		default:
			return v[k]
		}
	}
	return v[k]
}

// noise estimates the standard deviation of readings around their trend from second differences, which a straight trend
// does not reach (Gasser, Sroka and Jennen-Steinmetz, "Residual variance and residual pattern in nonlinear regression",
// Biometrika 73, 1986), by the median of their sizes, which single spikes do not reach (Hampel, "The influence curve
// and its role in robust estimation", 1974).
func noise(y []float64) float64 {
	if len(y) < 3 {
		return 0
	}
	e := make([]float64, len(y)-2)
	for i := range e {
		e[i] = math.Abs(y[i]-2*y[i+1]+y[i+2]) / math.Sqrt(6)
	}
	return 1.4826 * median(e)
}

// valley finds where a curve turns: the index i for which a fall up to i and a rise after it fit best in least squares.
// The errors of all prefixes come from one pass of pooling adjacent violators (Stout, "Unimodal regression via prefix
// isotonic regression", Computational Statistics and Data Analysis 53, 2008). O(n).
func valley(y []float64) int {
	fall := prefixErrors(y)
	back := slices.Clone(y)
	slices.Reverse(back)
	rise := prefixErrors(back) // a rise read backwards is a fall
	best, at := math.Inf(1), 0
	equal := 1e-9 * (fall[len(y)-1] + rise[len(y)-1]) // rounding; of equal fits the lowest place
	for i := range y {
		e := fall[i]
		if rest := len(y) - 2 - i; rest >= 0 {
			e += rise[rest]
		}
		if e < best-equal || e <= best+equal && y[i] < y[at] {
			best, at = min(best, e), i
		}
	}
	return at
}

// prefixErrors[i] is the squared error of the best falling fit to y[0..i].
func prefixErrors(y []float64) []float64 {
	type block struct{ n, sum, squares float64 }
	cost := func(b block) float64 { return max(0, b.squares-b.sum*b.sum/b.n) }
	var blocks []block
	total, out := 0.0, make([]float64, len(y))
	for i, v := range y {
		b := block{1, v, v * v}
		for len(blocks) > 0 {
			last := blocks[len(blocks)-1]
			if last.sum/last.n > b.sum/b.n {
				break
			}
			total -= cost(last)
			b = block{b.n + last.n, b.sum + last.sum, b.squares + last.squares}
			blocks = blocks[:len(blocks)-1]
		}
		blocks = append(blocks, b)
		total += cost(b)
		out[i] = max(0, total)
	}
	return out
}

// trend is the median of the slopes between all pairs (Theil 1950, Sen 1968), per reading, and how far the number of
// rising pairs is from what chance gives, in standard deviations (Kendall, "Rank Correlation Methods", 1975): below -2
// the curve falls. O(n^2).
func trend(y []float64) (slope, z float64) {
	n := float64(len(y))
	if n < 3 {
		return 0, 0
	}
	slopes, s := make([]float64, 0, len(y)*(len(y)-1)/2), 0.0
	for i := range y {
		for k := i + 1; k < len(y); k++ {
			slopes = append(slopes, (y[k]-y[i])/float64(k-i))
			switch {
			case y[k] > y[i]:
				s++
			case y[k] < y[i]:
				s--
			}
		}
	}
	deviation := math.Sqrt(n * (n - 1) * (2*n + 5) / 18)
	return median(slopes), (s - math.Copysign(math.Min(1, math.Abs(s)), s)) / deviation
}
