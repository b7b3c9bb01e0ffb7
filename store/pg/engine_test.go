package pg_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/curves"
)

// model is what was written, in the plainest form.
type model struct {
	starts []int64
	legs   []map[string][]curve.Reading
}

// joined is what readers must see: of each leg the readings before the start of every later one.
func (m *model) joined() map[string][]curve.Reading {
	out := map[string][]curve.Reading{}
	for i, leg := range m.legs {
		for name, readings := range leg {
			for _, r := range readings {
				counts := true
				for _, later := range m.starts[i+1:] {
					counts = counts && r.Step < later
				}
				if counts {
					out[name] = append(out[name], r)
				}
			}
		}
	}
	return out
}

// write sends a batch of n points: one curve at every point, one at every seventh, one now and then, and some odd
// values.
func (m *model) write(t *testing.T, r *rand.Rand, l *leg, step *int64, n int) {
	b := curve.Builder{}
	into := m.legs[l.number-1]
	add := func(name string, p curve.Point, v float64) {
		b.Value(name, v)
		into[name] = append(into[name], curve.Reading{Point: p, Value: v})
	}
	for range n {
		*step += r.Int64N(3)
		p := curve.Point{Step: *step, Epoch: float64(*step) / 100,
			Time: 1_790_000_000_000 + int64(l.number)*1e9 + *step*17}
		b.Point(p)
		v := float64(float32(math.Exp(-float64(*step)/5000) + 0.1*r.NormFloat64()))
		switch r.IntN(400) {
		case 0:
			v = math.NaN()
		case 1:
			v = math.Inf(-1)
		}
		add("loss.train", p, v)
		add("rate", p, 0.1)
		if *step%7 == 0 {
			add("loss.val", p, v+1)
		}
		if r.IntN(50) == 0 {
			add("note", p, float64(r.IntN(3)))
		}
	}
	l.count(t, b.Names, b.Batch())
}

func requireCurves(t *testing.T, want, got map[string][]curve.Reading, about string) {
	t.Helper()
	require.Len(t, got, len(want), about)
	for name, readings := range want {
		require.Len(t, got[name], len(readings), "%s: %s", about, name)
		for i, r := range readings {
			require.Equal(t, r.Point, got[name][i].Point, "%s: %s %d", about, name, i)
			require.Equal(t, math.Float64bits(r.Value), math.Float64bits(got[name][i].Value),
				"%s: %s %d", about, name, i)
		}
	}
}

// requireView compares a view with what the readings say. Pixels are compared by what no quarter of a pixel can change:
// nothing is lost, the extremes are there, no pixel shows what none of its readings near it has.
func requireView(t *testing.T, f fixture, run int64, joined map[string][]curve.Reading, w curve.Window, about string) {
	t.Helper()
	got, err := f.View(ctx, store.Span{Run: run}, w, curve.Smoothing{})
	require.NoError(t, err, about)
	for name, readings := range joined {
		want, shown := curve.Fold{}, curve.Fold{}
		for _, r := range readings {
			if x := w.By.At(r.Point); x >= w.From && x <= w.To {
				want.Add(curve.One(r))
			}
		}
		last := math.Inf(-1)
		for _, fold := range got[name].Folds {
			pixel := math.Floor(w.By.At(fold.Last.Point) / w.Width)
			require.Greater(t, pixel, last, "%s: %s: one fold a pixel, in order", about, name)
			last = pixel
			shown.Add(fold)
			lo, hi := (pixel-0.25)*w.Width, (pixel+1)*w.Width
			least, most := math.Inf(1), math.Inf(-1)
			for _, r := range readings {
				if x := w.By.At(r.Point); x >= lo && x <= hi && !math.IsNaN(r.Value) && !math.IsInf(r.Value, 0) {
					least, most = min(least, r.Value), max(most, r.Value)
				}
			}
			if fold.Finite() > 0 {
				require.GreaterOrEqual(t, fold.Min, least, "%s: %s", about, name)
				require.LessOrEqual(t, fold.Max, most, "%s: %s", about, name)
			}
		}
		require.Equal(t, [3]int64{want.N, want.NaN, want.Infinite}, [3]int64{shown.N, shown.NaN, shown.Infinite},
			"%s: %s", about, name)
		if want.Finite() > 0 {
			require.Equal(t, want.Min, shown.Min, "%s: %s", about, name)
			require.Equal(t, want.Max, shown.Max, "%s: %s", about, name)
			require.InDelta(t, want.Mean, shown.Mean, 1e-5, "%s: %s", about, name)
		}
		if want.N > 0 {
			require.Equal(t, want.Last.Point, shown.Last.Point, "%s: %s", about, name)
		}
	}
}

// Whatever is sealed and what is not, and wherever legs cut, readers see what was written.
func TestReadersSeeJournalAndBlocksAsOne(t *testing.T) {
	f := start(t)
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 7))
		run, m := f.run(t), &model{}
		var l *leg
		step := int64(0)
		for round := range 24 {
			if l == nil || r.IntN(8) == 0 {
				from := int64(0)
				if l != nil {
					from = step - r.Int64N(step/3+1)
				}
				l, step = f.leg(t, run, from), from
				m.starts, m.legs = append(m.starts, from), append(m.legs, map[string][]curve.Reading{})
			}
			m.write(t, r, l, &step, 1+r.IntN(3000))
			if r.IntN(2) == 0 {
				_, err := f.Summarise(ctx)
				require.NoError(t, err)
				// Cut off at any moment, as by a crash, it is taken up again the next time.
				cut, cancel := context.WithTimeout(ctx, time.Duration(r.IntN(40))*time.Millisecond)
				_, _ = f.Seal(cut, curves.SealRule{})
				cancel()
				if r.IntN(2) == 0 {
					_, err = f.Seal(ctx, curves.SealRule{})
					require.NoError(t, err)
				}
			}
			if round%6 != 5 {
				continue
			}
			about := fmt.Sprintf("seed %d round %d", seed, round)
			joined := m.joined()
			requireCurves(t, joined, scan(t, f, store.Span{Run: run}), about)
			from := r.Int64N(step + 1)
			cut := map[string][]curve.Reading{}
			for name, readings := range joined {
				for _, v := range readings {
					if v.Step >= from && v.Step <= from+step/4 {
						cut[name] = append(cut[name], v)
					}
				}
			}
			requireCurves(t, cut, scan(t, f, store.Span{Run: run, From: from, To: max(1, from+step/4)}), about+", part")
			for _, by := range []curve.By{curve.ByStep, curve.ByEpoch} {
				lo, hi, ok, err := f.Extent(ctx, run, by)
				require.NoError(t, err)
				require.True(t, ok)
				for range 3 {
					a := lo + (hi-lo)*r.Float64()*0.6
					b := a + (hi-a)*r.Float64()
					if r.IntN(3) == 0 {
						a, b = lo, hi
					}
					pixels := 1 + r.IntN(40)
					if w := (curve.Window{By: by, From: a, To: b,
						Width: curve.PixelWidth(by, a, b, pixels)}); w.Width > 0 {
						requireView(t, f, run, joined, w, fmt.Sprintf("%s, %+v", about, w))
					}
				}
			}
		}
	}
}

func TestSealedVolumesAreEmptied(t *testing.T) {
	f := start(t)
	run := f.run(t)
	l := f.leg(t, run, 0)
	rows := func() (n int) {
		require.NoError(t, f.Pool.QueryRow(ctx, "select count(*) from journal").Scan(&n))
		return n
	}
	for i := range int64(6) {
		l.write(t, map[string][]curve.Reading{"loss.val": {at(i, 1)}})
		_, err := f.Seal(ctx, curves.SealRule{})
		require.NoError(t, err)
	}
	require.Equal(t, 6, rows(), "what is not summarised stays in the journal")
	_, err := f.Summarise(ctx)
	require.NoError(t, err)
	for range 3 {
		_, err = f.Seal(ctx, curves.SealRule{})
		require.NoError(t, err)
	}
	require.Zero(t, rows())
	require.Len(t, scan(t, f, store.Span{Run: run})["loss.val"], 6)
	l.write(t, map[string][]curve.Reading{"loss.val": {at(9, 2)}})
	require.Len(t, scan(t, f, store.Span{Run: run})["loss.val"], 7)
	var axes int
	require.NoError(t, f.Pool.QueryRow(ctx, "select count(*) from axis").Scan(&axes))
	require.Equal(t, 1, axes, "the axis of a block that grew is gone")
}

// Whoever reads while a run is written, sealed and its volumes are emptied sees all that was acknowledged before, once.
func TestReadingWhileSealing(t *testing.T) {
	f := start(t)
	run := f.run(t)
	l := f.leg(t, run, 0)
	var acknowledged atomic.Int64
	written, done := make(chan struct{}), make(chan error, 1)
	go func() {
		defer close(done)
		for {
			select {
			case <-written:
				return
			default:
			}
			if _, err := f.Summarise(ctx); err != nil {
				done <- err
				return
			}
			if _, err := f.Seal(ctx, curves.SealRule{}); err != nil {
				done <- err
				return
			}
		}
	}()
	go func() {
		defer close(written)
		for b := range int64(300) {
			batch := curve.Batch{Columns: []curve.Column{{Curve: 1}}}
			for i := range int64(100) {
				batch.Axis = append(batch.Axis, curve.Point{Step: b*100 + i})
				batch.Columns[0].Values = append(batch.Columns[0].Values, float64(b*100+i))
			}
			l.count(t, []string{"loss.train"}, batch)
			acknowledged.Store((b + 1) * 100)
		}
	}()
	for reading := true; reading; {
		select {
		case <-written:
			reading = false
		default:
		}
		least := acknowledged.Load()
		got := scan(t, f, store.Span{Run: run})["loss.train"]
		require.GreaterOrEqual(t, int64(len(got)), least)
		for i, r := range got {
			require.EqualValues(t, i, r.Value, "in order, once")
		}
		folds, err := f.View(ctx, store.Span{Run: run}, curve.Window{By: curve.ByStep, To: 1e9, Width: 64},
			curve.Smoothing{})
		require.NoError(t, err)
		count := int64(0)
		for _, fold := range folds["loss.train"].Folds {
			count += fold.N
		}
		require.GreaterOrEqual(t, count, int64(len(got)))
	}
	require.NoError(t, <-done)
}
