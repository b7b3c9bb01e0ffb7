package assess

import (
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"kembrel/core/sheet"
)

// Intervals of figures that are no plain shares are made by resampling (Efron 1979), percentiles 2.5 to 97.5: whole
// groups where they are known and there are two or more, as examples of one voyage are not independent, and else single
// examples. Seeded: the same sheet gives the same interval.
const (
	mostTimes  = 400
	leastTimes = 100
	mostDraws  = 40_000_000
)

// resampled are the labelled examples in the order of the units that are drawn: those of a group side by side, which
// memory reads many times faster.
type resampled struct {
	groups int     // how many there are; 0: no examples have one
	order  []int32 // examples by place
	ends   []int32 // where each unit ends in order
}

// units are the labelled examples by group, those without one each by itself. Where there is one group at most, every
// example is by itself.
func units(s *sheet.Sheet) resampled {
	var out resampled
	if s.Groups != nil {
		places := map[string]int{}
		var units [][]int32
		count := 0
		for i := range s.Len() {
			if !s.Labelled(i) {
				continue
			}
			if count++; s.Groups[i] == "" {
				units = append(units, []int32{int32(i)})
				continue
			}
			at, ok := places[s.Groups[i]]
			if !ok {
				at = len(units)
				places[s.Groups[i]] = at
				units = append(units, nil)
			}
			units[at] = append(units[at], int32(i))
		}
		out.order = make([]int32, 0, count)
		for _, u := range units {
			out.order = append(out.order, u...)
			out.ends = append(out.ends, int32(len(out.order)))
		}
		out.groups = len(places)
	}
	if out.groups >= 2 {
		return out
	}
	out.order, out.ends = nil, nil
	for i := range s.Len() {
		if s.Labelled(i) {
			out.order = append(out.order, int32(i))
			out.ends = append(out.ends, int32(len(out.order)))
		}
	}
	return out
}

// each draws again and again as many units as there are and calls count for the place in order of each of their
// examples, then done.
func (r resampled) each(count func(place int32), done func()) {
	n := len(r.order)
	if n == 0 {
		return
	}
	times := min(mostTimes, max(leastTimes, mostDraws/n))
	random := rand.New(rand.NewPCG(1, uint64(n)))
	for range times {
		for range r.ends {
			u := random.IntN(len(r.ends))
			from := int32(0)
			if u > 0 {
				from = r.ends[u-1]
			}
			for place := from; place < r.ends[u]; place++ {
				count(place)
			}
		}
		done()
	}
}

// FewGroups is the number of groups below which figures have no intervals: they would hold the truth much too rarely.
// ManyUnits is the number of units from which on their percentiles are taken.
const (
	FewGroups = 8
	ManyUnits = 50
)

// interval is the 95 % interval of a figure by its values in the samples drawn. With fewer than ManyUnits units it is
// widened by Student's t, and the spread of the samples by sqrt(n/(n-1)), as percentiles of few units are too narrow
// (Hesterberg 2015). ok is false where there is none.
func (r resampled) interval(f named, drawn []float64) (low, high float64, ok bool) {
	n := float64(len(r.ends))
	if r.groups >= 2 && n < FewGroups {
		return 0, 0, false
	}
	low, high, ok = percentiles(drawn)
	if !ok || n >= ManyUnits || n < 2 {
		return low, high, ok
	}
	drawn = slices.DeleteFunc(drawn, func(v float64) bool { return math.IsNaN(v) || math.IsInf(v, 0) })
	half := distuv.StudentsT{Sigma: 1, Nu: n - 1}.Quantile(0.975) * stat.StdDev(drawn, nil) * math.Sqrt(n/(n-1))
	if math.IsNaN(half) || math.IsInf(half, 0) { // of figures near the largest numbers there are
		return 0, 0, false
	}
	low, high = f.value-half, f.value+half
	if slices.Min(drawn) >= 0 {
		low = max(0, low)
	}
	return low, min(high, f.most()), true
}

// percentiles are the bounds that 95 % of values lie between. It sorts them. Samples for which a figure is not defined
// are left out; ok is false where that is more than a tenth.
func percentiles(values []float64) (low, high float64, ok bool) {
	drawn := len(values)
	values = slices.DeleteFunc(values, func(v float64) bool { return math.IsNaN(v) || math.IsInf(v, 0) })
	if drawn < leastTimes || 10*len(values) < 9*drawn {
		return 0, 0, false
	}
	slices.Sort(values)
	at := func(p float64) float64 {
		x := p * float64(len(values)-1)
		i := int(x)
		return values[i] + (x-float64(i))*(values[min(i+1, len(values)-1)]-values[i])
	}
	return at(0.025), at(0.975), true
}

// named is a figure that sums of a sample give.
type named struct {
	name  string
	lower bool
	value float64
}

// most is the highest value that a figure can have.
func (f named) most() float64 {
	if f.lower || f.name == "mean error" {
		return math.Inf(1)
	}
	return 1
}

// tally are the counts and sums of a sample of a sheet of classes.
type tally struct {
	k      int
	cells  []float64 // k+1 answers (the last: none) of k classes
	n      float64
	loss   float64
	brier  float64
	firsts float64 // the true class is among the first few
	scored bool
	top    int
}

// topOf is how many of the highest scores count as an answer, beside the highest; 0: none for so few classes.
func topOf(k int) int {
	switch {
	case k > 10:
		return 5
	case k > 4:
		return 3
	}
	return 0
}

// figures are what a tally gives, each NaN where it cannot be said.
//
// Balanced accuracy is the mean recall of the classes that have examples; kappa is Cohen's (1960), correlation is
// Matthews' for several classes (Gorodkin 2004); log loss and Brier's score (1950, summed over the classes) are means.
func (t *tally) figures() []named {
	row, column := make([]float64, t.k), make([]float64, t.k+1)
	right := 0.0
	for i := range t.k {
		for j := range t.k + 1 {
			v := t.cells[i*(t.k+1)+j]
			row[i] += v
			column[j] += v
		}
		right += t.cells[i*(t.k+1)+i]
	}
	recall, precision, f1, weighted, classes := 0.0, 0.0, 0.0, 0.0, 0.0
	agree, squares := 0.0, 0.0
	for i := range t.k {
		hit := t.cells[i*(t.k+1)+i]
		agree += row[i] * column[i]
		squares += row[i] * row[i]
		if row[i] == 0 {
			continue
		}
		classes++
		recall += hit / row[i]
		if column[i] > 0 {
			precision += hit / column[i]
		}
		f := 2 * hit / (row[i] + column[i])
		f1 += f
		weighted += f * row[i]
	}
	answers := 0.0
	for _, v := range column {
		answers += v * v
	}
	n := t.n
	out := []named{{"accuracy", false, right / n}, {"balanced accuracy", false, recall / classes}}
	if t.scored && t.top > 0 {
		out = append(out, named{topName(t.top), false, t.firsts / n})
	}
	out = append(out, named{"precision, mean of classes", false, precision / classes},
		named{"F1, mean of classes", false, f1 / classes}, named{"F1, by examples", false, weighted / n},
		named{"kappa", false, (right/n - agree/n/n) / (1 - agree/n/n)},
		named{"correlation", false, (right*n - agree) / math.Sqrt((n*n-answers)*(n*n-squares))})
	if !math.IsNaN(t.loss) {
		out = append(out, named{"log loss", true, t.loss / n}, named{"Brier score", true, t.brier / n})
	}
	return out
}

func topName(top int) string { return map[int]string{3: "top 3", 5: "top 5"}[top] }

// figures finds the figures of a sheet of classes.
func (a *Assessment) figures(s *sheet.Sheet) {
	if a.Labelled == 0 {
		return
	}
	k := len(s.Classes)
	u := units(s)
	seen := make([]struct { // by place
		cell        int32
		first       bool
		loss, brier float64
	}, len(u.order))
	top := topOf(k)
	for place, i := range u.order {
		x := &seen[place]
		at := s.Predicted[i]
		if at == sheet.None {
			at = int32(k)
		}
		x.cell = s.True[i]*int32(k+1) + at
		row := s.Row(int(i))
		if row == nil {
			continue
		}
		is, above := row[s.True[i]], 0
		for c, v := range row {
			d := v
			if v > is || v == is && int32(c) < s.True[i] {
				above++
			}
			if int32(c) == s.True[i] {
				d--
			}
			x.brier += d * d
		}
		x.first = is == is && above < top
		x.loss = s.Loss(int(i))
	}
	t := &tally{k: k, cells: make([]float64, k*(k+1)), scored: s.Scores != nil, top: top}
	unsaid := a.Scores != "probabilities" || a.Outside+a.NotNumber > 0
	reset := func() {
		clear(t.cells)
		t.n, t.loss, t.brier, t.firsts = 0, 0, 0, 0
		if unsaid {
			t.loss = math.NaN()
		}
	}
	count := func(place int32) {
		x := &seen[place]
		t.cells[x.cell]++
		t.n++
		t.loss += x.loss
		t.brier += x.brier
		if x.first {
			t.firsts++
		}
	}
	a.measure(u, count, reset, t.figures)
}

// measure adds the figures of what is counted, with their intervals by resampling; that of the share of right answers
// is Wilson's where examples are drawn one by one.
func (a *Assessment) measure(u resampled, count func(place int32), reset func(), figures func() []named) {
	reset()
	for place := range u.order {
		count(int32(place))
	}
	all := figures()
	drawn := make([][]float64, len(all))
	reset()
	u.each(count, func() {
		for i, f := range figures() {
			drawn[i] = append(drawn[i], f.value)
		}
		reset()
	})
	for i, f := range all {
		if math.IsNaN(f.value) || math.IsInf(f.value, 0) {
			continue
		}
		out := Measured{Name: f.name, Interval: Interval{Value: f.value}, Lower: f.lower}
		if u.groups < 2 && (f.name == "accuracy" || f.name == "exact match") {
			out.Interval = *Wilson(a.Right, a.Labelled)
		} else if low, high, ok := u.interval(f, drawn[i]); ok {
			out.Interval = out.Between(low, high)
		}
		a.Figures = append(a.Figures, out)
	}
}

// numbers finds the figures of a sheet of numbers: mean absolute error, root of the mean squared error, the share of
// the variance that is explained (R2), the mean error.
func (a *Assessment) numbers(s *sheet.Sheet) {
	var n, absolute, squared, sum, target, squares float64
	reset := func() { n, absolute, squared, sum, target, squares = 0, 0, 0, 0, 0, 0 }
	answered := func(i int32) bool { return s.Labelled(int(i)) && !math.IsNaN(s.Value[i]) }
	mean, all := 0.0, 0.0
	for i := range s.Len() {
		if s.Labelled(i) {
			a.Labelled++
		}
		if answered(int32(i)) {
			mean += s.Target[i]
			all++
		}
	}
	if all == 0 {
		return
	}
	mean /= all // taken away, so that squares of large numbers do not cancel
	u := units(s)
	count := func(place int32) {
		i := u.order[place]
		if !answered(i) {
			return
		}
		e := s.Value[i] - s.Target[i]
		n++
		absolute += math.Abs(e)
		squared += e * e
		sum += e
		target += s.Target[i] - mean
		squares += (s.Target[i] - mean) * (s.Target[i] - mean)
	}
	figures := func() []named {
		return []named{{"mean absolute error", true, absolute / n}, {"root mean squared error", true,
			math.Sqrt(squared / n)},
			{"R2", false, 1 - squared/(squares-target*target/n)}, {"mean error", false, sum / n}}
	}
	a.measure(u, count, reset, figures)
}
