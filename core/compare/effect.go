package compare

import (
	"math"
	"math/rand/v2"
	"slices"
	"sort"
)

const (
	effectPlaces = 16 // values at which an effect is taken, at most
	effectRuns   = 30 // runs that each is the mean over
	effectShare  = .1 // of the trees below the interval, and as many above
)

// Effect is what a forest predicts on average over the runs when a feature has a value: its partial dependence (J.
// Friedman, "Greedy function approximation", 2001, section 8.2). Low and High hold what eight in ten trees predict.
type Effect struct {
	Run             int // that has the value
	Mean, Low, High float64
}

// Effects are those of a feature at its values, in their order: all of them where they are few, else values that
// divide the runs evenly; of words the most frequent. They are in the units of what the forest was grown from.
// O(places x runs x trees).
func (f *Forest) Effects(k int) []Effect {
	if len(f.trees) == 0 {
		return nil
	}
	places := f.places(k)
	runs := rand.New(rand.NewPCG(forestSeed, 3)).Perm(len(f.y))
	runs = runs[:min(len(runs), effectRuns)]
	out := make([]Effect, len(places))
	each := make([]float64, len(f.trees))
	for i, p := range places {
		sum := 0.0
		for j, t := range f.trees {
			each[j] = 0
			for _, run := range runs {
				each[j] += f.walk(t, run, k, p, -1, 0)
			}
			each[j] /= float64(len(runs))
			sum += each[j]
		}
		slices.Sort(each)
		cut := int(effectShare * float64(len(each)))
		out[i] = Effect{Run: p, Mean: sum / float64(len(each)), Low: each[cut], High: each[len(each)-1-cut]}
	}
	return out
}

// places are runs with the values of a feature at which its effect is taken.
func (f *Forest) places(k int) []int {
	feature := f.features[k]
	var out []int
	if feature.Numbers != nil {
		for i, v := range feature.Numbers {
			if !math.IsNaN(v) {
				out = append(out, i)
			}
		}
		sort.SliceStable(out, func(a, b int) bool { return feature.Numbers[out[a]] < feature.Numbers[out[b]] })
		out = slices.CompactFunc(out, func(a, b int) bool { return feature.Numbers[a] == feature.Numbers[b] })
		if n := len(out); n > effectPlaces {
			some := make([]int, effectPlaces)
			for i := range some {
				some[i] = out[i*(n-1)/(effectPlaces-1)]
			}
			out = some
		}
		return out
	}
	counts, first := map[string]int{}, map[string]int{}
	for i, w := range feature.Words {
		if w == "" {
			continue
		}
		if counts[w] == 0 {
			first[w] = i
			out = append(out, i)
		}
		counts[w]++
	}
	sort.SliceStable(out, func(a, b int) bool { return counts[feature.Words[out[a]]] > counts[feature.Words[out[b]]] })
	return out[:min(len(out), effectPlaces)]
}

// unrank is the value of a rank among sorted values, between neighbours where it is between them.
func unrank(sorted []float64, rank float64) float64 {
	at := min(max(rank-1, 0), float64(len(sorted)-1))
	low := int(at)
	if low+1 >= len(sorted) {
		return sorted[low]
	}
	return sorted[low] + (at-float64(low))*(sorted[low+1]-sorted[low])
}
