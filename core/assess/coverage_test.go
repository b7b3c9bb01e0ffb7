package assess_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// voyages is a sheet of clips whose voyages differ in how easy they are, so that the clips of one resemble each other;
// each of its figures has a true value, which very many voyages have.
func voyages(r *rand.Rand, groups, clips int) *sheet.Sheet {
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Classes, Classes: []string{"tug", "ferry", "trawler"}}}
	for g := range groups {
		easy := 0.55 + 0.4*r.Float64()
		for c := range clips {
			is := int32(r.IntN(3))
			answer := is
			if r.Float64() > easy {
				answer = int32(r.IntN(3))
			}
			s.Keys = append(s.Keys, fmt.Sprint(g, c))
			s.Groups = append(s.Groups, fmt.Sprint(g))
			s.True, s.Predicted = append(s.True, is), append(s.Predicted, answer)
		}
	}
	return s
}

// Of the intervals that are shown, 95 in 100 hold the true value, of many groups or few; of too few none is shown.
func TestIntervalsHoldTheTruth(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(5, 5))
	truth := map[string]float64{}
	for _, f := range assess.Of(voyages(r, 40_000, 20)).Figures {
		truth[f.Name] = f.Value
	}
	require.GreaterOrEqual(t, len(truth), 6)
	const times = 1500
	for _, groups := range []int{5, 10, 30} {
		held := map[string]int{}
		for range times {
			for _, f := range assess.Of(voyages(r, groups, 12)).Figures {
				if groups < assess.FewGroups {
					require.Nil(t, f.Low, f.Name)
					continue
				}
				require.NotNil(t, f.Low, f.Name)
				require.LessOrEqual(t, *f.High, 1.0, f.Name)
				if *f.Low <= truth[f.Name] && truth[f.Name] <= *f.High {
					held[f.Name]++
				}
			}
		}
		for name := range truth {
			if groups >= assess.FewGroups {
				t.Log(groups, name, float64(held[name])/times)
				require.InDelta(t, 0.95, float64(held[name])/times, 0.02, "%s, %d groups", name, groups)
			}
		}
	}
}

// Examples without a group count, each as a unit of its own.
func TestExamplesWithoutAGroupCount(t *testing.T) {
	s := voyages(rand.New(rand.NewPCG(1, 1)), 10, 20)
	for i := range s.Groups {
		if i >= 60 { // of 7 of the 10 voyages nobody said which they were, and there every answer is wrong
			s.Groups[i], s.Predicted[i] = "", (s.True[i]+1)%3
		}
	}
	f, ok := assess.Of(s).Figure("accuracy")
	require.True(t, ok)
	require.True(t, *f.Low <= f.Value && f.Value <= *f.High, "%v is not within %v to %v", f.Value, *f.Low, *f.High)
}
