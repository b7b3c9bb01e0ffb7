package compare

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
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

// The methods of an interval.
const (
	// Bootstrap draws the runs of either group anew 20,000 times, their distances from the mean stretched by
	// sqrt(n/(n-1)) so that the spread of the draws is that of the mean, and cuts the draws where Student's t with
	// Welch's degrees of freedom says: T. Hesterberg, "What Teachers Should Know about the Bootstrap", 2015, section
	// 3.2 (expanded percentile). The plain percentile interval is too narrow for a handful of seeds.
	Bootstrap = "bootstrap"
	// Prediction asks, where one side is a single run, whether it lies where one more run of the other group would:
	// mean ± t s sqrt(1 + 1/n).
	Prediction = "prediction"
)

const draws = 20_000

// Between compares two groups of figures. With one figure on either side nothing can be said of the noise.
func Between(a, b Sample) Interval {
	out := Interval{Difference: a.Mean - b.Mean, Low: math.NaN(), High: math.NaN()}
	n, m := len(a.Values), len(b.Values)
	switch {
	case n == 0 || m == 0 || n == 1 && m == 1:
		return out
	case n == 1 || m == 1:
		spread, k := a.Deviation, float64(n)
		if n == 1 {
			spread, k = b.Deviation, float64(m)
		}
		half := student(k-1, 0.975) * spread * math.Sqrt(1+1/k)
		out.Method, out.Low, out.High = Prediction, out.Difference-half, out.Difference+half
	default:
		out.Method = Bootstrap
		out.Low, out.High = bootstrap(a, b)
	}
	out.Beyond = out.Low > 0 || out.High < 0
	return out
}

func student(freedom, p float64) float64 {
	return distuv.StudentsT{Mu: 0, Sigma: 1, Nu: freedom}.Quantile(p)
}

func bootstrap(a, b Sample) (low, high float64) {
	va, vb := a.Deviation*a.Deviation/float64(len(a.Values)), b.Deviation*b.Deviation/float64(len(b.Values))
	if va+vb == 0 {
		return a.Mean - b.Mean, a.Mean - b.Mean
	}
	freedom := (va + vb) * (va + vb) / (va*va/float64(len(a.Values)-1) + vb*vb/float64(len(b.Values)-1))
	cut := distuv.UnitNormal.CDF(-student(freedom, 0.975))
	r := rand.New(rand.NewPCG(uint64(len(a.Values)), uint64(len(b.Values))))
	mean := func(s Sample) float64 {
		sum, n := 0.0, len(s.Values)
		for range n {
			sum += s.Values[r.IntN(n)] - s.Mean
		}
		return s.Mean + sum/float64(n)*math.Sqrt(float64(n)/float64(n-1))
	}
	all := make([]float64, draws)
	for i := range all {
		all[i] = mean(a) - mean(b)
	}
	slices.Sort(all)
	at := func(p float64) float64 { // between the draws, as means of few runs come in few values
		x := p * float64(len(all)-1)
		i := int(x)
		if i+1 >= len(all) {
			return all[i]
		}
		return all[i] + (x-float64(i))*(all[i+1]-all[i])
	}
	return at(cut), at(1 - cut)
}

// Say says whether a difference is more than noise.
func (v Interval) Say(a, b Group) string {
	n, m := len(a.Best.Values), len(b.Best.Values)
	switch v.Method {
	case "":
		if n == 1 && m == 1 {
			return "one each: cannot tell whether that is more than noise"
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
	interval := fmt.Sprintf("95 %% bootstrap interval of the difference %s to %s", curve.Number(v.Low),
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
