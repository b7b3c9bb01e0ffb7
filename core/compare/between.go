package compare

import (
	"fmt"
	"math"
	"strings"

	"gonum.org/v1/gonum/stat/distuv"

	"kembrel/core/curve"
)

// Interval is a difference of two groups' means, a - b, with the range that holds the true difference in 95 of 100 such
// comparisons.
type Interval struct {
	Difference float64
	Low, High  float64 // NaN where nothing can be said
	Method     string  // "" where nothing can be said
	Beyond     bool    // the interval does not hold 0: more than the noise between seeds
}

// The methods of an interval, each difference ± t · standard error for normal figures. A simulation in the tests holds
// them to 5 % of false claims from one run against two up.
const (
	// Student pools the spread of both sides (Student 1908), which are taken to spread alike. With five runs or fewer
	// on a side there is too little to tell the spreads apart by: Welch's test then claims 2 % to 6 % instead of 5 %.
	Student = "student"
	// Welch takes each side's own spread (Welch 1947), for more than five runs on both sides.
	Welch = "welch"
	// Prediction asks, where one side is a single run, whether it lies where one more run of the other group would:
	// mean ± t s sqrt(1 + 1/n).
	Prediction = "prediction"
)

// mostPooled is the number of runs on a side up to which spreads are pooled.
const mostPooled = 5

// Between compares two groups of figures. With one figure on either side nothing can be said of the noise, nor where
// no two runs of a side differ: figures that are equal, as accuracies of a small split are, do not prove that seeds
// make no difference.
func Between(a, b Sample) Interval {
	out := Interval{Difference: a.Mean - b.Mean, Low: math.NaN(), High: math.NaN()}
	n, m := float64(len(a.Values)), float64(len(b.Values))
	if n == 0 || m == 0 || n+m < 3 {
		return out
	}
	squares := func(s Sample) float64 {
		if len(s.Values) < 2 {
			return 0
		}
		return s.Deviation * s.Deviation * float64(len(s.Values)-1)
	}
	sa, sb := squares(a), squares(b)
	if sa+sb == 0 {
		return out
	}
	freedom := n + m - 2
	spread := math.Sqrt((sa + sb) / freedom * (1/n + 1/m))
	switch {
	case n == 1 || m == 1:
		out.Method = Prediction
	case min(n, m) <= mostPooled:
		out.Method = Student
	default:
		out.Method = Welch
		va, vb := sa/(n-1)/n, sb/(m-1)/m
		freedom = (va + vb) * (va + vb) / (va*va/(n-1) + vb*vb/(m-1))
		spread = math.Sqrt(va + vb)
	}
	half := student(freedom, 0.975) * spread
	out.Low, out.High = out.Difference-half, out.Difference+half
	out.Beyond = out.Low > 0 || out.High < 0
	return out
}

func student(freedom, p float64) float64 {
	return distuv.StudentsT{Mu: 0, Sigma: 1, Nu: freedom}.Quantile(p)
}

// Say says whether a difference is more than noise.
func (v Interval) Say(a, b Group) string {
	n, m := len(a.Best.Values), len(b.Best.Values)
	switch v.Method {
	case "":
		if n == 1 && m == 1 {
			return "one each: cannot tell whether that is more than noise"
		}
		if n > 0 && m > 0 {
			return "the runs of each setting have the same figure, so the noise between seeds is not known"
		}
		return "there is nothing to compare"
	case Prediction:
		single, other := a, b
		if m == 1 {
			single, other = b, a
		}
		if v.Beyond {
			return fmt.Sprintf("%s is one run; it lies outside where 95 of 100 more seeds of %s would fall",
				single.Label, other.Label)
		}
		return fmt.Sprintf("cannot be told apart: %s is one run, and one more seed of %s may well fall there",
			single.Label, other.Label)
	}
	interval := fmt.Sprintf("95 %% interval of the difference %s to %s", curve.Number(v.Low),
		curve.Number(v.High))
	if v.Beyond {
		return "beyond the noise between seeds (" + interval + ")"
	}
	return "cannot be told apart from the noise between seeds (" + interval + ")"
}

// SayRanking says which group is best and by how much; groups are ranked.
func SayRanking(groups []Group, lower bool) string {
	if len(groups) == 0 || math.IsNaN(groups[0].Best.Mean) {
		return "None of them has a figure of the objective."
	}
	first := groups[0]
	text := fmt.Sprintf("%s: %s", first.Label, first.Best.say())
	if len(groups) == 1 {
		return text + "."
	}
	next := groups[1]
	if math.IsNaN(next.Best.Mean) {
		return text + "; no other has a figure."
	}
	v := Between(first.Best, next.Best)
	if v.Difference == 0 {
		return text + ", as " + next.Label + "."
	}
	return fmt.Sprintf("%s, by %s over %s; %s.", text, curve.Number(math.Abs(v.Difference)), next.Label,
		v.Say(first, next))
}

// SayApart names neighbours in the ranking, from the second on, that cannot be told apart; "" where all can or nothing
// is known.
func SayApart(groups []Group) string {
	var out []string
	for k := 1; k+1 < len(groups); k++ {
		a, b := groups[k], groups[k+1]
		if v := Between(a.Best, b.Best); v.Method != "" && !v.Beyond {
			out = append(out, a.Label+" and "+b.Label)
		}
	}
	switch {
	case len(out) == 0:
		return ""
	case len(out) > 3:
		return fmt.Sprintf("%d further neighbours in the ranking cannot be told apart.", len(out))
	}
	return "Cannot be told apart: " + strings.Join(out, "; ") + "."
}

func (s Sample) say() string {
	if len(s.Values) == 1 {
		return curve.Number(s.Mean)
	}
	return fmt.Sprintf("%s, the mean of %d seeds", curve.Number(s.Mean), len(s.Values))
}
