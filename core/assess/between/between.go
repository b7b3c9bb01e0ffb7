// Package between compares the answers of two models to the same examples.
package between

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"

	"kembrel/core/assess"
)

// Differ compares the counts of two models by the exact McNemar test (McNemar 1947, by the binomial distribution). The
// interval of the difference is that of Newcombe 1998 for paired shares (method 10, from Wilson's). ok is false where
// there are no examples.
func Differ(both, first, second, neither int64) (out assess.Disagreement, ok bool) {
	n := both + first + second + neither
	out = assess.Disagreement{Both: both, First: first, Second: second, Neither: neither, P: 1}
	if n == 0 {
		return out, false
	}
	if m := first + second; m > 0 {
		b := distuv.Binomial{N: float64(m), P: 0.5}
		out.P = min(1, 2*b.CDF(float64(min(first, second))))
	}
	a, c := assess.Wilson(both+first, n), assess.Wilson(both+second, n)
	d := a.Value - c.Value
	phi := 0.0
	e, f, g, h := float64(both), float64(first), float64(second), float64(neither)
	if scale := math.Sqrt((e + f) * (g + h) * (e + g) * (f + h)); scale > 0 {
		cross := e*h - f*g
		if cross > 0 {
			cross = max(0, cross-float64(n)/2)
		}
		phi = cross / scale
	}
	reach := func(x, y float64) float64 { return math.Sqrt(max(0, x*x-2*phi*x*y+y*y)) }
	low := d - reach(a.Value-*a.Low, *c.High-c.Value)
	high := d + reach(*a.High-a.Value, c.Value-*c.Low)
	out.Difference = assess.Interval{Value: d}.Between(max(-1, low), min(1, high))
	return out, true
}
