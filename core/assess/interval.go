package assess

import "math"

// Interval is a figure with its 95 % interval, where there is one.
type Interval struct {
	Value float64  `json:"value"`
	Low   *float64 `json:"low,omitempty"`
	High  *float64 `json:"high,omitempty"`
}

// Between is the figure with an interval.
func (v Interval) Between(low, high float64) Interval {
	v.Low, v.High = &low, &high
	return v
}

// z is how many standard errors a 95 % interval reaches to each side: the normal distribution's quantile of 0.975.
const z = 1.959963984540054

// Wilson is a share of n with its 95 % score interval (Wilson 1927). nil where n is 0.
func Wilson(hits, n int64) *Interval {
	if n == 0 {
		return nil
	}
	p, m := float64(hits)/float64(n), float64(n)
	mid := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	// at 0 and 1 the bound is exact, and rounding would miss it
	low, high := max(0, mid-half), min(1, mid+half)
	if hits == 0 {
		low = 0
	}
	if hits == n {
		high = 1
	}
	out := Interval{Value: p}.Between(low, high)
	return &out
}

// Disagreement is how the answers of two models to the same examples differ.
type Disagreement struct {
	Both    int64 `json:"both" doc:"Examples that both have right"`
	First   int64 `json:"only_first" doc:"That only the first has right"`
	Second  int64 `json:"only_second" doc:"That only the second has right"`
	Neither int64 `json:"neither" doc:"That neither has right"`
	// of the first less the second
	Difference Interval `json:"difference" doc:"Accuracy of the first less that of the second, with its 95 % interval (Newcombe 1998, method 10)"`
	P          float64  `json:"p" doc:"Chance of so unequal counts where both are as good: exact McNemar test, two-sided"`
}
