package compare

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"

	"gonum.org/v1/gonum/stat"

	"kembrel/core/curve"
	"kembrel/core/hyper"
)

// Feature is a hyperparameter over several runs.
type Feature struct {
	Name    string
	Numbers []float64 // of each run; booleans are 0 and 1; NaN: absent. nil where some value is a text or a list
	Words   []string  // of each run where Numbers is nil, as Plain writes it; "": absent
}

// Features are the hyperparameters in which runs differ, by name, without seeds. O(runs x hyperparameters).
func Features(runs []Run) []Feature {
	names := map[string]bool{}
	for _, r := range runs {
		for name := range r.Hyper {
			names[name] = !IsSeed(name)
		}
	}
	var out []Feature
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if !names[name] {
			continue
		}
		f := Feature{Name: name, Numbers: make([]float64, len(runs)), Words: make([]string, len(runs))}
		differ := false
		for i, r := range runs {
			number := math.NaN()
			if v, ok := r.Hyper[name]; ok {
				f.Words[i] = Plain(v)
				if number, ok = toNumber(v); !ok {
					f.Numbers = nil
				}
			}
			if f.Numbers != nil {
				f.Numbers[i] = number
			}
			differ = differ || f.Words[i] != f.Words[0]
		}
		if f.Numbers != nil {
			f.Words = nil
		}
		if differ {
			out = append(out, f)
		}
	}
	return out
}

func toNumber(v json.RawMessage) (float64, bool) {
	d, err := hyper.Decode(v)
	if err != nil {
		return 0, false
	}
	switch x := d.(type) {
	case json.Number:
		f, err := x.Float64()
		return f, err == nil
	case bool:
		if x {
			return 1, true
		}
		return 0, true
	}
	return 0, false
}

// Influence is what a hyperparameter has to do with a figure.
type Influence struct {
	Name string
	Runs int // that have both
	// Correlation is Spearman's rank correlation with the figure; NaN where values are no numbers or fewer than three
	// runs have both. Low and High hold the true one in 95 of 100 such samples: Fisher's z with the variance of D.
	// Bonett and T. Wright, "Sample size requirements for estimating Pearson, Kendall and Spearman correlations", 2000;
	// NaN below five runs.
	Correlation, Low, High float64
	// Importance is by how much a random forest errs more when the values are shuffled, as a share of the figure's
	// variance; see Forest.
	Importance float64
	// Effects are what the forest predicts at its values, in the units of the figure; for the most important ones.
	Effects []ValueEffect
}

// ValueEffect is an effect at a value, as it was given.
type ValueEffect struct {
	Value           json.RawMessage
	Mean, Low, High float64
}

// mostEffects is of how many hyperparameters effects are taken.
const mostEffects = 6

// Mattered is what the hyperparameters of many runs have to do with a figure.
type Mattered struct {
	Runs       int // that have the figure
	Left       int // left out: without a finite figure
	Influences []Influence
	// share of the variance of the figure's ranks that the forest predicts of runs it has not seen; NaN: unknown
	Explained float64
	Pairs     []Pair // of the most important hyperparameters, the strongest first
	Few       bool   // too few runs to trust this
}

// perFeature is how many runs a hyperparameter needs at the least before influences are trusted; never fewer than
// leastRuns in all.
const (
	perFeature = 5
	leastRuns  = 10
)

// Influences says which hyperparameters mattered for a figure, the most important first. O(trees x runs log runs x
// features).
func Influences(runs []Run, figure []float64) Mattered {
	var kept []Run
	var y []float64
	for i, v := range figure {
		if !math.IsNaN(v) && !math.IsInf(v, 0) {
			kept, y = append(kept, runs[i]), append(y, v)
		}
	}
	out := Mattered{Runs: len(kept), Left: len(runs) - len(kept), Explained: math.NaN()}
	features := Features(kept)
	out.Few = len(kept) < max(leastRuns, perFeature*len(features))
	for _, f := range features {
		i := Influence{Name: f.Name, Correlation: math.NaN(), Low: math.NaN(), High: math.NaN()}
		i.correlate(f, y)
		out.Influences = append(out.Influences, i)
	}
	if len(kept) >= leastForest && len(features) > 0 {
		forest := Grow(features, ranks(y))
		for k, v := range forest.Importance {
			out.Influences[k].Importance = v
		}
		out.Explained, out.Pairs = forest.Explained, forest.Interactions()
		out.addEffects(forest, kept, y)
	}
	sort.SliceStable(out.Influences, func(i, j int) bool {
		a, b := out.Influences[i], out.Influences[j]
		if a.Importance != b.Importance {
			return a.Importance > b.Importance
		}
		return math.Abs(orZero(a.Correlation)) > math.Abs(orZero(b.Correlation))
	})
	return out
}

// addEffects takes the effects of the most important hyperparameters: those that the forest makes use of.
func (m *Mattered) addEffects(f *Forest, runs []Run, y []float64) {
	sorted := slices.Sorted(slices.Values(y))
	order := make([]int, len(f.features))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(a, b int) bool { return f.Importance[order[a]] > f.Importance[order[b]] })
	for _, k := range order[:min(len(order), mostEffects)] {
		if f.Importance[k] <= 0 {
			continue
		}
		for _, e := range f.Effects(k) {
			m.Influences[k].Effects = append(m.Influences[k].Effects, ValueEffect{
				Value: runs[e.Run].Hyper[f.features[k].Name],
				Mean:  unrank(sorted, e.Mean), Low: unrank(sorted, e.Low), High: unrank(sorted, e.High)})
		}
	}
}

func orZero(v float64) float64 {
	if math.IsNaN(v) {
		return 0
	}
	return v
}

func (out *Influence) correlate(f Feature, y []float64) {
	var a, b []float64
	for i := range y {
		if f.Numbers == nil && f.Words[i] != "" {
			out.Runs++
		}
		if f.Numbers != nil && !math.IsNaN(f.Numbers[i]) {
			a, b = append(a, f.Numbers[i]), append(b, y[i])
		}
	}
	if f.Numbers == nil {
		return
	}
	if out.Runs = len(a); out.Runs < 3 || constant(a) || constant(b) {
		return
	}
	out.Correlation = stat.Correlation(ranks(a), ranks(b), nil)
	if n := float64(out.Runs); n >= 5 && math.Abs(out.Correlation) < 1 {
		z, half := math.Atanh(out.Correlation), 1.959964*math.Sqrt((1+out.Correlation*out.Correlation/2)/(n-3))
		out.Low, out.High = math.Tanh(z-half), math.Tanh(z+half)
	}
}

func constant(x []float64) bool { return slices.Min(x) == slices.Max(x) }

// ranks are the places of values in their order, from 1; equal ones share the mean of theirs.
func ranks(x []float64) []float64 {
	order := make([]int, len(x))
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(i, j int) bool { return x[order[i]] < x[order[j]] })
	out := make([]float64, len(x))
	for i := 0; i < len(order); {
		j := i
		for j < len(order) && x[order[j]] == x[order[i]] {
			j++
		}
		for _, k := range order[i:j] {
			out[k] = float64(i+j+1) / 2
		}
		i = j
	}
	return out
}

// Say says what mattered most.
func (m Mattered) Say(figure string) string {
	switch {
	case len(m.Influences) == 0:
		return "The runs differ in no hyperparameter."
	case m.Runs < leastForest:
		return fmt.Sprintf("%d runs have a figure: too few to say. At least %d are wanted, and %d for each hyperparameter.", m.Runs, leastRuns, perFeature)
	}
	var text strings.Builder
	first := m.Influences[0]
	if first.Importance <= 0 || !(m.Explained > 0) {
		fmt.Fprintf(&text, "None of the %d hyperparameters predicts %s.", len(m.Influences), figure)
	} else {
		fmt.Fprintf(&text, "%s mattered most for %s", first.Name, figure)
		if !math.IsNaN(first.Low) {
			fmt.Fprintf(&text, ": rank correlation %s (%s to %s)", curve.Number(first.Correlation),
				curve.Number(first.Low), curve.Number(first.High))
		}
		text.WriteString(".")
		if len(m.Influences) > 1 && m.Influences[1].Importance > first.Importance/4 {
			fmt.Fprintf(&text, " Next came %s.", m.Influences[1].Name)
		}
	}
	if m.Few {
		fmt.Fprintf(&text, " %d runs are too few for %d hyperparameters: take it as a hint.", m.Runs, len(m.Influences))
	}
	return text.String()
}
