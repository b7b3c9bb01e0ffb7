package judging

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/store"
)

// A run that trains is judged by what is remembered of it and what came since: these are the folds that reading it
// whole gives, whatever the batches, also where the reading that was remembered saw batches that were told of only
// later.
func TestRememberedFoldsAreThoseOfTheWhole(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 8))
	kept := 0
	for round := range 12 {
		by := []curve.By{curve.ByEpoch, curve.ByStep}[round%2]
		perStep := r.IntN(2) == 0 // training is read at every step, validation at the end of epochs
		type batch struct{ train, val store.Stretch }
		var batches []batch
		step := int64(0)
		for range 20 + r.IntN(900) {
			b := batch{}
			for range 1 + r.IntN(3) {
				step += 1 + int64(r.IntN(3))
				p := curve.Point{Step: step, Epoch: math.NaN(), Time: step}
				if by == curve.ByEpoch {
					p.Epoch = float64(step) / 4
				}
				v := r.NormFloat64()
				if r.IntN(50) == 0 {
					v = math.NaN()
				}
				if perStep || step%4 == 0 {
					b.train.Points, b.train.Values = append(b.train.Points, p), append(b.train.Values, v)
				}
				if step%4 == 0 {
					b.val.Points, b.val.Values = append(b.val.Points, p), append(b.val.Values, v+1)
				}
			}
			batches = append(batches, b)
		}
		whole := func(n int) judgedFolds {
			from, to := math.Inf(1), math.Inf(-1)
			for _, b := range batches[:n] {
				for _, p := range append(b.train.Points[:len(b.train.Points):len(b.train.Points)], b.val.Points...) {
					from, to = min(from, by.At(p)), max(to, by.At(p))
				}
			}
			if from > to {
				return judgedFolds{}
			}
			w := judgedWindow(by, from, to)
			train, val := curve.Reducer{Window: w}, curve.Reducer{Window: w}
			for _, b := range batches[:n] {
				train.Readings(b.train.Points, b.train.Values)
				val.Readings(b.val.Points, b.val.Values)
			}
			return judgedFolds{window: w, train: train.Folds, val: val.Folds}
		}
		last := curve.NewSummary()
		if by == curve.ByEpoch {
			last.Last.Epoch = 1
		}
		u, told, ahead := unjudged{}, 0, 0
		for told < len(batches) {
			n := min(told+1+r.IntN(5), len(batches))
			d := store.Summarised{Run: 1, Before: int64(told), Batches: int64(n)}
			for _, b := range batches[told:n] {
				d.Train, d.Objective = append(d.Train, b.train), append(d.Objective, b.val)
			}
			u.add(d)
			told = n
			want := whole(told)
			if l := u.learnt[1]; l != nil && told < ahead {
				require.LessOrEqual(t, len(l.val.Folds), len(whole(ahead).val))
			} else if l != nil && l.usable(verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}, last) {
				kept++
				require.Equal(t, want.window.Width, l.val.Window.Width)
				require.Len(t, l.train.Folds, len(want.train))
				for i, f := range want.train {
					same(t, f, l.train.Folds[i])
				}
				require.Len(t, l.val.Folds, len(want.val))
				for i, f := range want.val {
					same(t, f, l.val.Folds[i])
				}
			} else if want.window.Width > 0 {
				ahead = min(told+r.IntN(3), len(batches)) // more had come than was told of
				u.remember(1, verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}, whole(ahead))
			}
			u.done(1)
			if r.IntN(40) == 0 { // another replica was faster, or an earlier leg was replaced
				u.add(store.Summarised{Run: 1, Before: -1, Batches: int64(told)})
				require.Nil(t, u.learnt[1])
			}
		}
	}
	require.Greater(t, kept, 1000)
}

func same(t *testing.T, want, got curve.Fold) {
	t.Helper()
	require.Equal(t, [3]int64{want.N, want.NaN, want.Infinite}, [3]int64{got.N, got.NaN, got.Infinite})
	require.Equal(t, want.Last.Step, got.Last.Step)
	if want.Finite() > 0 {
		require.InDelta(t, want.Mean, got.Mean, 1e-9)
	}
}
