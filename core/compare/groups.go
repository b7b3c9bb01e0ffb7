package compare

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"gonum.org/v1/gonum/stat"

	"kembrel/core/hyper"
)

// Run is a run to be compared.
type Run struct {
	Name       string
	Title      string
	Hyper      map[string]json.RawMessage
	Code       string  // what else two runs of one setting have in common: commit, uncommitted change, packages, origin
	Best, Last float64 // of the objective; NaN: none
}

// Group are runs of one setting, which differ in nothing but the seed; or a run alone.
type Group struct {
	Label string
	Runs  []int  // indices
	Twice []int  // of them, those that repeat a seed that counts already: no evidence of their own
	Best  Sample // of the runs that count and have a finite figure
	Last  Sample
}

// Sample describes the figures of a group.
type Sample struct {
	Values          []float64
	Mean            float64 // NaN where there is none
	Deviation       float64 // standard deviation, with n-1; NaN below two
	Lowest, Highest float64
}

// Describe describes figures; those that are not finite are left out.
func Describe(values []float64) Sample {
	s := Sample{Mean: math.NaN(), Deviation: math.NaN(), Lowest: math.NaN(), Highest: math.NaN()}
	for _, v := range values {
		if !math.IsNaN(v) && !math.IsInf(v, 0) {
			s.Values = append(s.Values, v)
		}
	}
	if len(s.Values) > 0 {
		s.Mean, s.Lowest, s.Highest = stat.Mean(s.Values, nil), slices.Min(s.Values), slices.Max(s.Values)
	}
	if len(s.Values) > 1 {
		s.Deviation = stat.StdDev(s.Values, nil)
	}
	return s
}

// IsSeed reports whether a hyperparameter is a seed by its name: seed, net.seed, data_seed.
func IsSeed(name string) bool {
	name = strings.ToLower(name[strings.LastIndexByte(name, '.')+1:])
	return name == "seed" || strings.HasSuffix(name, "_seed") || strings.HasSuffix(name, "-seed")
}

// Groups puts runs of one setting together, in the order in which the settings come first. O(runs x hyperparameters).
func Groups(runs []Run) []Group {
	var out []Group
	index := map[string]int{}
	seeds := map[string]bool{}
	for i, r := range runs {
		setting, seed := r.setting()
		k, ok := index[setting]
		if !ok {
			k = len(out)
			index[setting] = k
			out = append(out, Group{})
		}
		out[k].Runs = append(out[k].Runs, i)
		if seed == "" {
			continue
		}
		if seeds[setting+"\x00"+seed] {
			out[k].Twice = append(out[k].Twice, i)
		}
		seeds[setting+"\x00"+seed] = true
	}
	labels := labels(runs, out)
	for k := range out {
		var best, last []float64
		for _, i := range out[k].Runs {
			if !slices.Contains(out[k].Twice, i) {
				best, last = append(best, runs[i].Best), append(last, runs[i].Last)
			}
		}
		out[k].Label, out[k].Best, out[k].Last = labels[k], Describe(best), Describe(last)
	}
	return out
}

// setting is all that two runs which differ only in the seed have in common, and the seeds.
func (r Run) setting() (setting, seed string) {
	var rest, seeds strings.Builder
	for _, name := range slices.Sorted(maps.Keys(r.Hyper)) {
		to := &rest
		if IsSeed(name) {
			to = &seeds
		}
		fmt.Fprintf(to, "%q=%s\n", name, Plain(r.Hyper[name]))
	}
	return rest.String() + r.Code, seeds.String()
}

// Plain writes a hyperparameter so that equal values have equal texts: 1, 1.0 and 1e0 are "1".
func Plain(v json.RawMessage) string {
	d, err := hyper.Decode(v)
	if err != nil {
		return string(v)
	}
	return plain(d)
}

func plain(v any) string {
	switch x := v.(type) {
	case json.Number:
		if f, err := x.Float64(); err == nil && (math.Abs(f) < 1<<53 || strings.ContainsAny(x.String(), ".eE")) {
			return strconv.FormatFloat(f, 'g', -1, 64)
		}
		return x.String()
	case []any:
		parts := make([]string, len(x))
		for i, e := range x {
			parts[i] = plain(e)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case string:
		return strconv.Quote(x)
	}
	return fmt.Sprint(v)
}

// maxInLabel is how many hyperparameters a label names.
const maxInLabel = 4

// labels names each group by the fewest hyperparameters that tell the groups apart: the one that tells most of them
// apart first. A run alone is named by its title, if it has one; groups with the same label, or none, also by their
// first run. O(hyperparameters² x groups) at most.
func labels(runs []Run, groups []Group) []string {
	said := map[string][]string{} // what a label says of each group, by hyperparameter
	for _, g := range groups {
		for name := range runs[g.Runs[0]].Hyper {
			if !IsSeed(name) {
				said[name] = nil
			}
		}
	}
	names := slices.Sorted(maps.Keys(said))
	for _, name := range names {
		values := make([]string, len(groups))
		for k, g := range groups {
			if v, ok := runs[g.Runs[0]].Hyper[name]; ok {
				values[k] = strings.Trim(Plain(v), `"`)
			}
		}
		for k, short := range brief(values) {
			text := "no " + name
			if _, ok := runs[groups[k].Runs[0]].Hyper[name]; ok {
				text = name + " " + short
			}
			said[name] = append(said[name], text)
		}
	}
	out := make([]string, len(groups))
	apart := 1
	for range maxInLabel {
		best, most := "", apart
		for _, name := range names {
			if n := distinct(out, said[name]); n > most {
				best, most = name, n
			}
		}
		if best == "" {
			break
		}
		for k := range out {
			out[k] = strings.TrimPrefix(out[k]+", "+said[best][k], ", ")
		}
		apart = most
	}
	count := map[string]int{}
	for k, g := range groups {
		if title := runs[g.Runs[0]].Title; len(g.Runs) == 1 && title != "" {
			out[k] = title
		}
		count[out[k]]++
	}
	for k, g := range groups {
		if out[k] == "" || count[out[k]] > 1 {
			out[k] = strings.TrimPrefix(out[k]+", "+runs[g.Runs[0]].Name, ", ")
		}
	}
	return out
}

// maxValue is how many characters of a value a label has.
const maxValue = 32

// brief cuts long values to where they differ, so that what is left still tells them apart; where it would not, they
// stay as they are.
func brief(values []string) []string {
	longest, shared := 0, -1 // shared: characters that all of them begin with
	var first []rune
	for _, v := range values {
		text := []rune(v)
		longest = max(longest, len(text))
		if v == "" {
			continue
		}
		if shared < 0 {
			first, shared = text, len(text)
		}
		for i := range shared {
			if i >= len(text) || text[i] != first[i] {
				shared = i
				break
			}
		}
	}
	if longest <= maxValue {
		return values
	}
	const before = 6 // characters that are left of what they share
	from := 0
	if shared > before+1 {
		from = shared - before
	}
	out, apart, still := make([]string, len(values)), map[string]bool{}, map[string]bool{}
	for k, v := range values {
		text := []rune(v)
		if from > 0 && len(text) > from {
			text = append([]rune{'…'}, text[from:]...)
		}
		if len(text) > maxValue {
			text = append(text[:maxValue-1:maxValue-1], '…')
		}
		out[k], apart[v], still[string(text)] = string(text), true, true
	}
	if len(still) < len(apart) {
		return values
	}
	return out
}

// distinct counts the different pairs.
func distinct(a, b []string) int {
	known := map[[2]string]bool{}
	for i := range a {
		known[[2]string{a[i], b[i]}] = true
	}
	return len(known)
}

// Rank puts groups into order by the mean of their best figures, the best first; those without a figure last.
func Rank(groups []Group, lower bool) {
	sort.SliceStable(groups, func(i, j int) bool {
		a, b := groups[i].Best.Mean, groups[j].Best.Mean
		if math.IsNaN(a) || math.IsNaN(b) {
			return !math.IsNaN(a)
		}
		if lower {
			return a < b
		}
		return a > b
	})
}
