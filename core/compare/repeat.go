package compare

import (
	"math"

	"kembrel/core/curve"
)

// Tolerance is the relative difference up to which readings count as repeated though not equal: a different order of
// sums gives some 1e-16 for each step in float64 and 1e-7 in float32.
const Tolerance = 1e-6

// Repeat says how two recordings of the same curve compare.
type Repeat struct {
	Readings   int64          // that both have, by step
	Same       bool           // all equal, bit for bit; NaN is equal to NaN
	Difference float64        // largest relative difference |a-b| / max(|a|, |b|)
	Since      *curve.Reading // first reading of b that differs by more than Tolerance
	Was        float64        // what a had there
}

// Repeats compares two recordings of a curve, each in the order of steps; where a step has several readings, its last
// counts. O(len(a)+len(b)).
func Repeats(a, b []curve.Reading) Repeat {
	r := Repeat{Same: true}
	i := 0
	for k, y := range b {
		if k+1 < len(b) && b[k+1].Step == y.Step {
			continue
		}
		for i < len(a) && (a[i].Step < y.Step || i+1 < len(a) && a[i+1].Step == y.Step) {
			i++
		}
		if i == len(a) || a[i].Step != y.Step {
			continue
		}
		x := a[i]
		r.Readings++
		if math.Float64bits(x.Value) == math.Float64bits(y.Value) || x.Value != x.Value && y.Value != y.Value {
			continue
		}
		r.Same = false
		difference := math.Inf(1)
		if x.Value == y.Value { // 0 and -0
			difference = 0
		} else if d := math.Abs(x.Value-y.Value) / max(math.Abs(x.Value), math.Abs(y.Value)); d == d {
			difference = d
		}
		r.Difference = max(r.Difference, difference)
		if difference > Tolerance && r.Since == nil {
			r.Since, r.Was = &y, x.Value
		}
	}
	return r
}
