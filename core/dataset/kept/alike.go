package kept

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"kembrel/core/dataset"
)

// SharesAlike compares how often labels come in two splits; a and b count the same labels. Where all expected counts
// are 5 or more it is Pearson's chi-square test (1900; the rule is Cochran's, 1954); otherwise the exact test of
// Freeman and Halton (1951), over all tables with these margins while they are at most a million, and else over 20,000
// drawn ones (seeded: the same each time). The effect is Cramér's V (1946).
func SharesAlike(splits [2]string, a, b []int64) dataset.Alike {
	out := dataset.Alike{Splits: splits, P: 1, Method: "chi-square"}
	var x, y []int64
	na, nb := float64(total(a)), float64(total(b))
	if na == 0 || nb == 0 {
		return out
	}
	chi, fine := 0.0, true
	for i := range a {
		n := float64(a[i] + b[i])
		if n == 0 {
			continue
		}
		x, y = append(x, a[i]), append(y, b[i])
		ea, eb := n*na/(na+nb), n*nb/(na+nb)
		chi += (float64(a[i])-ea)*(float64(a[i])-ea)/ea + (float64(b[i])-eb)*(float64(b[i])-eb)/eb
		fine = fine && ea >= 5 && eb >= 5
	}
	out.Freedom = len(x) - 1
	out.Effect = math.Sqrt(chi / (na + nb))
	if out.Freedom < 1 {
		out.Freedom = 0
		return out
	}
	switch {
	case fine:
		out.P = distuv.ChiSquared{K: float64(out.Freedom)}.Survival(chi)
	case tables(x, y) <= 1e6:
		out.Method, out.P = "exact", exact(x, y)
	default:
		out.Method, out.P = "simulated", simulated(x, y, chi)
	}
	return out
}

// name sets the label whose share differs most.
func nameMost(a *dataset.Alike, labels []dataset.LabelCount, first, second int) {
	var na, nb float64
	for _, l := range labels {
		na, nb = na+float64(l.Items[first]), nb+float64(l.Items[second])
	}
	if na == 0 || nb == 0 {
		return
	}
	most := -1.0
	for _, l := range labels {
		sa, sb := float64(l.Items[first])/na, float64(l.Items[second])/nb
		if d := math.Abs(sa - sb); d > most {
			most, a.Most, a.Shares = d, l.Label, []float64{sa, sb}
		}
	}
}

// tables bounds how many tables have these margins.
func tables(a, b []int64) float64 {
	n := 1.0
	for i := range a {
		if n *= float64(a[i] + b[i] + 1); n > 1e12 {
			return n
		}
	}
	return n
}

// exact is the chance, given the margins, of a table at most as likely as this one.
func exact(a, b []int64) float64 {
	rows := make([]int64, len(a))
	left := int64(0)
	for i := range a {
		rows[i] = a[i] + b[i]
		left += rows[i]
	}
	choose := func(n, k int64) float64 {
		x, _ := math.Lgamma(float64(n + 1))
		y, _ := math.Lgamma(float64(k + 1))
		z, _ := math.Lgamma(float64(n - k + 1))
		return x - y - z
	}
	na := total(a)
	all := choose(left, na)
	seen := -all
	for i := range a {
		seen += choose(rows[i], a[i])
	}
	behind := make([]int64, len(rows)+1) // items of the rows from here on
	for i := len(rows) - 1; i >= 0; i-- {
		behind[i] = behind[i+1] + rows[i]
	}
	p := 0.0
	var walk func(i int, need int64, log float64)
	walk = func(i int, need int64, log float64) {
		if i == len(rows) {
			if log-all <= seen+1e-7 {
				p += math.Exp(log - all)
			}
			return
		}
		for k := max(0, need-behind[i+1]); k <= min(rows[i], need); k++ {
			walk(i+1, need-k, log+choose(rows[i], k))
		}
	}
	walk(0, na, 0)
	return min(p, 1)
}

const draws = 20_000

// simulated is the share of tables drawn with these margins whose chi-square is at least as large: (k+1)/(draws+1), as
// the table itself is one of them (Davison and Hinkley 1997, section 4.2).
func simulated(a, b []int64, chi float64) float64 {
	rows := make([]int64, len(a))
	for i := range a {
		rows[i] = a[i] + b[i]
	}
	na, n := total(a), total(rows)
	random := rand.New(rand.NewPCG(1951, 8))
	hits := 0
	for range draws {
		need, left, got := na, n, 0.0
		for _, r := range rows {
			k := hypergeometric(random, left, r, need)
			need, left = need-k, left-r
			e := float64(r) * float64(na) / float64(n)
			d := float64(k) - e
			got += d * d * (1/e + 1/(float64(r)-e))
		}
		if got >= chi*(1-1e-9) {
			hits++
		}
	}
	return float64(hits+1) / (draws + 1)
}

// hypergeometric draws how many of r marked ones are among need drawn of left. For large numbers the normal
// approximation with its bounds.
func hypergeometric(random *rand.Rand, left, r, need int64) int64 {
	if left <= 0 || r == 0 || need == 0 {
		return 0
	}
	if r > 64 && need > 64 {
		p := float64(need) / float64(left)
		mean := float64(r) * p
		sd := math.Sqrt(mean * (1 - p) * float64(left-r) / math.Max(1, float64(left-1)))
		k := int64(math.Round(mean + sd*random.NormFloat64()))
		return max(max(0, need-(left-r)), min(k, min(r, need)))
	}
	if need < r { // draw the fewer
		r, need = need, r
	}
	k := int64(0)
	for i := range r {
		if random.Int64N(left-i) < need-k {
			k++
		}
	}
	return k
}

// NumbersAlike compares labels that are numbers: the two-sample test of Kolmogorov and Smirnov, with the asymptotic
// distribution as Stephens (1970) corrects it for small samples. The samples are sorted by it.
func NumbersAlike(splits [2]string, a, b []float64) dataset.Alike {
	slices.Sort(a)
	slices.Sort(b)
	d, i, j := 0.0, 0, 0
	for i < len(a) && j < len(b) {
		v := min(a[i], b[j])
		for i < len(a) && a[i] == v {
			i++
		}
		for j < len(b) && b[j] == v {
			j++
		}
		d = max(d, math.Abs(float64(i)/float64(len(a))-float64(j)/float64(len(b))))
	}
	n := math.Sqrt(float64(len(a)) * float64(len(b)) / float64(len(a)+len(b)))
	l := (n + 0.12 + 0.11/n) * d
	p, sign := 0.0, 1.0
	for k := 1.0; k <= 100; k++ {
		p += 2 * sign * math.Exp(-2*k*k*l*l)
		sign = -sign
	}
	if l < 0.2 {
		p = 1
	}
	return dataset.Alike{Splits: splits, Method: "Kolmogorov-Smirnov", P: min(max(p, 0), 1), Effect: d}
}

// labels counts labels by split and says how alike the splits are in them.
func (c *checker) labels() error {
	counts := map[string][]int64{}
	numbers := make([][]float64, len(c.names))
	none, labelled := []int{}, false
	err := c.each(Want{Labels: true, Target: true}, func(i int, it *dataset.Item) {
		s := c.splits[i]
		switch {
		case len(it.Labels) > 0:
			labelled = true
			for _, l := range it.Labels {
				if counts[l] == nil {
					counts[l] = make([]int64, len(c.names))
				}
				counts[l][s]++
			}
		case !math.IsNaN(it.Target):
			labelled = true
			numbers[s] = append(numbers[s], it.Target)
		default:
			none = append(none, i)
		}
	})
	if err != nil {
		return err
	}
	if labelled {
		for _, i := range none {
			c.found[i] |= NoLabel
		}
	}
	for label, items := range counts {
		c.out.Labels = append(c.out.Labels, dataset.LabelCount{Label: label, Items: items})
	}
	slices.SortFunc(c.out.Labels, func(a, b dataset.LabelCount) int {
		return cmp.Or(cmp.Compare(total(b.Items), total(a.Items)), cmp.Compare(a.Label, b.Label))
	})
	for s := 1; s < len(c.names); s++ {
		if c.names[s] == "" {
			continue
		}
		pair := [2]string{c.names[0], c.names[s]}
		if len(counts) > 1 {
			var a, b []int64
			for _, l := range c.out.Labels {
				a, b = append(a, l.Items[0]), append(b, l.Items[s])
			}
			alike := SharesAlike(pair, a, b)
			nameMost(&alike, c.out.Labels, 0, s)
			c.out.Alike = append(c.out.Alike, alike)
		}
		if len(numbers[0]) > 1 && len(numbers[s]) > 1 {
			c.out.Alike = append(c.out.Alike, NumbersAlike(pair, numbers[0], numbers[s]))
		}
	}
	if n := len(c.out.Labels); n > MostLabels {
		c.out.Others = n - MostLabels
		c.out.Labels = c.out.Labels[:MostLabels]
	}
	return nil
}

func total(list []int64) (sum int64) {
	for _, v := range list {
		sum += v
	}
	return sum
}
