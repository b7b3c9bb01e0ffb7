package compare

import (
	"math"
	"math/rand/v2"
	"slices"
	"sort"

	"gonum.org/v1/gonum/stat"
)

// The forest: L. Breiman, "Random Forests", 2001, for regression.
const (
	trees       = 200
	leafRuns    = 2 // fewest runs in a leaf
	leastForest = 6 // fewest runs to grow one from
	forestSeed  = 1851
	mostPaired  = 8  // features whose pairs are looked at
	mostPoints  = 40 // runs that partial dependence is taken over
	pairTrees   = 100
)

// Forest predicts a figure from features.
type Forest struct {
	features []Feature
	y        []float64
	trees    []tree
	// Importance of each feature: the mean, over trees, of how much the squared error on the runs that a tree was not
	// grown from rises when the feature's values are shuffled among them, divided by the variance of the figure. 0
	// where it does not rise.
	Importance []float64
	// Explained is 1 - squared error / variance, each run predicted by the trees that were not grown from it; NaN where
	// there is none.
	Explained float64
}

// tree is a decision tree; node 0 is the root. A leaf has left 0.
type tree []node

type node struct {
	feature     int
	below       float64 // goes left: a number of at most this
	word        string  // or this word
	left, right int32
	value       float64
}

// Grow grows a forest with a seed of its own: the same runs give the same one.
func Grow(features []Feature, y []float64) *Forest {
	f := &Forest{features: features, y: y, Importance: make([]float64, len(features)), Explained: math.NaN()}
	r := rand.New(rand.NewPCG(forestSeed, uint64(len(y))))
	n := len(y)
	variance := stat.PopVariance(y, nil)
	if variance == 0 {
		return f
	}
	sums, counts := make([]float64, n), make([]int, n)
	for range trees {
		in, bag := make([]int, n), make([]bool, n)
		for i := range in {
			in[i] = r.IntN(n)
			bag[in[i]] = true
		}
		var t tree
		f.split(&t, in, r)
		f.trees = append(f.trees, t)
		var out []int
		for i := range n {
			if !bag[i] {
				out = append(out, i)
				sums[i] += f.walk(t, i, -1, 0, -1, 0)
				counts[i]++
			}
		}
		f.shuffle(t, out, r)
	}
	for k := range f.Importance {
		f.Importance[k] = max(0, f.Importance[k]/trees/variance)
	}
	errors, told := 0.0, 0
	for i := range n {
		if counts[i] > 0 {
			d := sums[i]/float64(counts[i]) - y[i]
			errors += d * d
			told++
		}
	}
	if told > 0 {
		f.Explained = 1 - errors/float64(told)/variance
	}
	return f
}

// shuffle adds to the importances by how much a tree errs more on runs whose values of a feature are shuffled.
func (f *Forest) shuffle(t tree, out []int, r *rand.Rand) {
	if len(out) < 2 {
		return
	}
	used := map[int]bool{}
	for _, n := range t {
		if n.left != 0 {
			used[n.feature] = true
		}
	}
	for k := range f.features { // in their order, so that chance falls the same way each time
		if !used[k] {
			continue
		}
		order := r.Perm(len(out))
		rise := 0.0
		for i, run := range out {
			as, shuffled := f.walk(t, run, -1, 0, -1, 0)-f.y[run], f.walk(t, run, k, out[order[i]], -1, 0)-f.y[run]
			rise += shuffled*shuffled - as*as
		}
		f.Importance[k] += rise / float64(len(out))
	}
}

// split grows the node of some runs, and those below it.
func (f *Forest) split(t *tree, runs []int, r *rand.Rand) int32 {
	at := int32(len(*t))
	sum := 0.0
	for _, i := range runs {
		sum += f.y[i]
	}
	*t = append(*t, node{value: sum / float64(len(runs))})
	if len(runs) < 2*leafRuns {
		return at
	}
	best, gain := node{}, 1e-12
	tries := max(1, (len(f.features)+2)/3)
	for _, k := range r.Perm(len(f.features))[:tries] {
		if f.features[k].Numbers != nil {
			f.cutNumbers(k, runs, sum, &best, &gain)
		} else {
			f.cutWords(k, runs, sum, &best, &gain)
		}
	}
	if gain <= 1e-12 {
		return at
	}
	var left, right []int
	for _, i := range runs {
		if f.goesLeft(best, i) {
			left = append(left, i)
		} else {
			right = append(right, i)
		}
	}
	best.value = (*t)[at].value
	best.left = f.split(t, left, r)
	best.right = f.split(t, right, r)
	(*t)[at] = best
	return at
}

// better keeps a cut if it takes more off the squared error than those before: by sumL²/nL + sumR²/nR - sum²/n.
func better(c node, nL int, sumL float64, n int, sum float64, best *node, gain *float64) {
	if nL < leafRuns || n-nL < leafRuns {
		return
	}
	g := sumL*sumL/float64(nL) + (sum-sumL)*(sum-sumL)/float64(n-nL) - sum*sum/float64(n)
	if g > *gain {
		*best, *gain = c, g
	}
}

// cutNumbers tries the middles between neighbouring numbers; absent ones go right.
func (f *Forest) cutNumbers(k int, runs []int, sum float64, best *node, gain *float64) {
	x := f.features[k].Numbers
	var present []int
	for _, i := range runs {
		if !math.IsNaN(x[i]) {
			present = append(present, i)
		}
	}
	sort.Slice(present, func(a, b int) bool { return x[present[a]] < x[present[b]] })
	sumL := 0.0
	for a, i := range present {
		sumL += f.y[i]
		if a+1 < len(present) && x[present[a+1]] == x[i] {
			continue
		}
		below := x[i]
		if a+1 < len(present) {
			below += (x[present[a+1]] - below) / 2
		}
		better(node{feature: k, below: below}, a+1, sumL, len(runs), sum, best, gain)
	}
}

// cutWords tries each word against the rest.
func (f *Forest) cutWords(k int, runs []int, sum float64, best *node, gain *float64) {
	counts, sums := map[string]int{}, map[string]float64{}
	var words []string
	for _, i := range runs {
		w := f.features[k].Words[i]
		if counts[w] == 0 {
			words = append(words, w)
		}
		counts[w]++
		sums[w] += f.y[i]
	}
	for _, w := range words {
		better(node{feature: k, word: w}, counts[w], sums[w], len(runs), sum, best, gain)
	}
}

func (f *Forest) goesLeft(n node, run int) bool {
	if x := f.features[n.feature].Numbers; x != nil {
		return x[run] <= n.below
	}
	return f.features[n.feature].Words[run] == n.word
}

// walk is what a tree predicts of a run whose features j and k (-1: none) are those of other runs.
func (f *Forest) walk(t tree, run, j, asJ, k, asK int) float64 {
	n := t[0]
	for n.left != 0 {
		as := run
		switch n.feature {
		case j:
			as = asJ
		case k:
			as = asK
		}
		if f.goesLeft(n, as) {
			n = t[n.left]
		} else {
			n = t[n.right]
		}
	}
	return n.value
}

// Pair is how much two features act together: their joint effect beyond the sum of either's own, as a share of the
// figure's deviation (the unnormalised H of J. Friedman and B. Popescu, "Predictive learning via rule ensembles", 2008,
// section 8.1).
type Pair struct {
	A, B     string
	Strength float64
}

// Interactions are the pairs of the most important features, the strongest first. O(features² x points² x trees).
func (f *Forest) Interactions() []Pair {
	order := make([]int, len(f.features))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(a, b int) bool { return f.Importance[order[a]] > f.Importance[order[b]] })
	order = slices.DeleteFunc(order[:min(len(order), mostPaired)], func(k int) bool { return f.Importance[k] == 0 })
	points := rand.New(rand.NewPCG(forestSeed, 2)).Perm(len(f.y))
	points = points[:min(len(points), mostPoints)]
	alone := map[int][]float64{}
	for _, k := range order {
		alone[k] = f.dependence(points, k, -1)
	}
	deviation := stat.PopStdDev(f.y, nil)
	var out []Pair
	for a, j := range order {
		for _, k := range order[a+1:] {
			both, sum := f.dependence(points, j, k), 0.0
			for i := range both {
				d := both[i] - alone[j][i] - alone[k][i]
				sum += d * d
			}
			out = append(out, Pair{f.features[j].Name, f.features[k].Name,
				math.Sqrt(sum/float64(len(both))) / deviation})
		}
	}
	sort.SliceStable(out, func(a, b int) bool { return out[a].Strength > out[b].Strength })
	return out
}

// dependence is what the forest predicts on average when the features j and k are those of each point, less its mean.
func (f *Forest) dependence(points []int, j, k int) []float64 {
	out := make([]float64, len(points))
	grown := f.trees[:min(len(f.trees), pairTrees)]
	for i, p := range points {
		for _, run := range points {
			for _, t := range grown {
				out[i] += f.walk(t, run, j, p, k, p)
			}
		}
		out[i] /= float64(len(points) * len(grown))
	}
	mean := stat.Mean(out, nil)
	for i := range out {
		out[i] -= mean
	}
	return out
}
