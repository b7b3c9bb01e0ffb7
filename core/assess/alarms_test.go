package assess_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// failing are models that fail in just one way, by the kind of the alarm that is to be raised.
var failing = map[assess.AlarmKind]func(seed uint64) *sheet.Sheet{
	assess.Swapped: func(seed uint64) *sheet.Sheet { // the program reads tug as ferry, and ferry as tug
		return made(seed, 480, vessels, func(_, t int, z []float64) { z[[]int{1, 0, 2, 3, 4, 5}[t]] += 2 })
	},
	assess.Permuted: func(seed uint64) *sheet.Sheet {
		return made(seed, 480, vessels, func(_, t int, z []float64) { z[(t+1)%6] += 2.5 })
	},
	assess.OneAnswer: func(seed uint64) *sheet.Sheet {
		return made(seed, 480, vessels, func(_, _ int, z []float64) { z[3] += 6 })
	},
	assess.NeverAnswered: func(seed uint64) *sheet.Sheet {
		return made(seed, 480, vessels, func(_, t int, z []float64) { z[t] += 2; z[5] -= 20 })
	},
	assess.AlwaysWrong: func(seed uint64) *sheet.Sheet {
		return made(seed, 480, vessels, func(_, t int, z []float64) {
			if t == 5 {
				z[5] -= 20
				z[4]++
			} else {
				z[t] += 2
			}
		})
	},
	assess.OddScores: func(seed uint64) *sheet.Sheet {
		s := made(seed, 480, vessels, func(_, t int, z []float64) { z[t] += 2 })
		for i := range 12 {
			s.Scores[40*6*i] += 0.5
		}
		return s
	},
}

// kindsOf are the kinds of some alarms.
func kindsOf(list []assess.Alarm) []assess.AlarmKind {
	out := []assess.AlarmKind{}
	for _, a := range list {
		out = append(out, a.Kind)
	}
	return out
}

// Each failure raises its alarm and no other, of a hundred models each; docs/predictions.md has the counts.
func TestAlarmsOfFailingModels(t *testing.T) {
	for kind, make := range failing {
		hits, others := 0, 0
		for seed := range uint64(100) {
			s := make(seed)
			for i, got := range kindsOf(assess.Of(s).Alarms(s)) {
				if got == kind && (i == 0 || kind == assess.Swapped) {
					hits++
				} else {
					others++
				}
			}
		}
		t.Logf("%s: %d of 100, others %d", kind, hits, others)
		require.GreaterOrEqual(t, hits, 99, kind)
		require.LessOrEqual(t, others, 1, kind)
	}
}

// Honest models raise none: weak and strong ones, of few and of many examples, of even and of uneven classes, with a
// figure of their own that is rounded, and with one that is of a sample.
func TestHonestModelsAreQuiet(t *testing.T) {
	loud := map[assess.AlarmKind]int{}
	for seed := range uint64(100) {
		rng := rand.New(rand.NewPCG(seed, 77))
		n, strength := []int{120, 480, 1920}[seed%3], 0.7+2*rng.Float64()
		hard := rng.IntN(6)
		s := made(seed, n, vessels, func(i, t int, z []float64) {
			z[t] += strength
			if t == hard {
				z[t] -= 0.4
				z[(t+1)%6] += 0.4
			}
		})
		if seed%4 == 0 { // two classes are rare
			for i := range s.True {
				if s.True[i] >= 4 && i%10 != 0 {
					s.True[i] = sheet.None
				}
			}
		}
		a := assess.Of(s)
		for _, x := range a.Alarms(s) {
			loud[x.Kind]++
		}
		f, ok := a.Figure("accuracy")
		require.True(t, ok)
		for _, own := range []float64{f.Value, math.Round(1000*f.Value) / 1000, float64(float32(100 * f.Value))} {
			if a.Against("accuracy.val", "accuracy", own, true) != nil {
				loud[assess.FigureDiffers]++
			}
		}
		sample := made(seed+1000, 4*n, vessels, func(_, t int, z []float64) { z[t] += strength })
		if g, _ := assess.Of(sample).Figure("accuracy"); a.Against("accuracy.val", "accuracy", g.Value-0.02,
			false) != nil {
			loud[assess.FigureDiffers]++
		}
		if a.NoBetterThanChance("accuracy.train", 0.99) != nil {
			loud[assess.Shuffled]++
		}
	}
	t.Log("false alarms of 100 honest models:", loud)
	require.Empty(t, loud)
}

// A figure that is computed wrongly, and labels that are shuffled, are told by what the run recorded beside.
func TestAlarmsAgainstCurves(t *testing.T) {
	wrong, shuffled, early := 0, 0, 0
	for seed := range uint64(100) {
		s := made(seed, 480, vessels, func(_, t int, z []float64) { z[t] += 1.5 })
		a := assess.Of(s)
		f, _ := a.Figure("accuracy")
		if x := a.Against("accuracy.val", "accuracy", f.Value+0.03, true); x != nil {
			require.InDelta(t, f.Value, *x.Given, 1e-12)
			wrong++
		}
		random := made(seed, 480, vessels, func(_, _ int, _ []float64) {})
		b := assess.Of(random)
		if b.NoBetterThanChance("accuracy.train", 0.97) != nil {
			shuffled++
		}
		if b.NoBetterThanChance("accuracy.train", 0.2) != nil { // training does not fit either: it has only begun
			early++
		}
	}
	require.Equal(t, 100, wrong)
	require.GreaterOrEqual(t, shuffled, 95, "luck may look like skill")
	require.Zero(t, early)
	t.Logf("figure-differs 100 of 100, shuffled-labels %d of 100", shuffled)
	a := assess.Of(made(1, 480, vessels, func(_, t int, z []float64) { z[t]++ }))
	require.Nil(t, a.Against("f1.val", "f1", 0.9, true), "a figure that the sheet does not give")
	require.Nil(t, a.Against("accuracy.val", "accuracy", math.NaN(), true))
}

// Labels that were changed are among the suspects, and first.
func TestSuspects(t *testing.T) {
	s := made(8, 1200, vessels, func(_, t int, z []float64) { z[t] += 4 })
	changed := map[int]bool{}
	for i := 0; i < 1200; i += 40 {
		s.True[i] = (s.True[i] + 1) % 6
		changed[i] = true
	}
	found := assess.Suspects(s)
	right := 0
	for _, i := range found {
		if changed[i] {
			right++
		}
	}
	// a changed example that the model is less sure of than of most is let be
	require.GreaterOrEqual(t, right, 18, "of the 30 changed labels")
	require.LessOrEqual(t, len(found)-right, 6, "labels that are right")
	require.True(t, changed[found[0]], "the surest first")
}
