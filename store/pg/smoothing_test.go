package pg_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/curves"
)

// longCurve is a run with one curve of n readings that fall, with noise and now and then a spike, sealed.
func longCurve(t *testing.T, f fixture, n int) (run int64, values []float64) {
	run = f.run(t)
	l := f.leg(t, run, 0)
	r := rand.New(rand.NewPCG(12, 9))
	for from := 0; from < n; from += 4096 {
		b := curve.Batch{Columns: []curve.Column{{}}}
		for i := from; i < min(n, from+4096); i++ {
			v := 2*math.Exp(-3*float64(i)/float64(n)) + 0.2*r.NormFloat64()
			if r.IntN(500) == 0 {
				v += 20
			}
			values = append(values, v)
			b.Axis = append(b.Axis, curve.Point{Step: int64(i), Epoch: float64(i / 5000), Time: int64(1000 + 20*i)})
			b.Columns[0].Values = append(b.Columns[0].Values, v)
		}
		l.count(t, []string{"loss.train"}, b)
	}
	_, err := f.Summarise(ctx)
	require.NoError(t, err)
	_, err = f.Seal(ctx, curves.SealRule{})
	require.NoError(t, err)
	return run, values
}

// A view without an end, and a smoothed one, come from folds: no single readings are touched, but for those at the
// window's ends. How far smoothing from folds may be off is what docs/curves.md says.
func TestWholeViewsReadFoldsOnly(t *testing.T) {
	f := start(t)
	const n = 500_000
	run, values := longCurve(t, f, n)
	ends := map[string]curve.Window{
		"steps, no end":  {By: curve.ByStep, To: math.Inf(1)},
		"steps":          {By: curve.ByStep, To: n - 1},
		"epochs, no end": {By: curve.ByEpoch, To: math.Inf(1)},
		"time, no end":   {By: curve.ByTime, To: math.Inf(1)},
	}
	for name, w := range ends {
		w.Width = map[curve.By]float64{curve.ByStep: n / 700, curve.ByEpoch: 1, curve.ByTime: 20 * n / 700}[w.By]
		ends[name] = w
	}
	// What reads single readings of a full block fails from here on.
	_, err := f.Pool.Exec(ctx, `update block set payload = '\x00' where n = 4096`)
	require.NoError(t, err)
	for name, w := range ends {
		for _, smoothing := range []curve.Smoothing{{}, {HalfLife: 20 * w.Width}, {HalfLife: w.Width / 50},
			{Median: 30 * w.Width}} {
			got, err := f.View(ctx, store.Span{Run: run}, w, smoothing)
			require.NoError(t, err, "%s, %+v", name, smoothing)
			count := int64(0)
			for _, fold := range got["loss.train"].Folds {
				count += fold.N
			}
			require.EqualValues(t, n, count, name)
			if smoothing.None() {
				require.Empty(t, got["loss.train"].Smooth)
				continue
			}
			require.Len(t, got["loss.train"].Smooth, len(got["loss.train"].Folds))
			offBy(t, got["loss.train"], values, w, smoothing)
		}
	}
}

// offBy compares with smoothing of every reading. Two bounds: an exponential mean is off by no more than the folds that
// it is made of are high; and the noise here has a deviation of 0.2, of which the docs promise a tenth at most for
// stretches of several pixels.
func offBy(t *testing.T, got store.Folded, values []float64, w curve.Window, smoothing curve.Smoothing) {
	t.Helper()
	exact, at := smoothing.Smoother(), 0
	most := 0.0
	for i, fold := range got.Folds {
		var want float64
		for ; at <= int(fold.Last.Step); at++ {
			want = exact.Next(w.By.At(curve.Point{Step: int64(at), Epoch: float64(at / 5000),
				Time: int64(1000 + 20*at)}), values[at])
		}
		off := math.Abs(want - got.Smooth[i])
		low, high := fold.Min, fold.Max
		if i > 0 {
			low, high = min(low, got.Folds[i-1].Min), max(high, got.Folds[i-1].Max)
		}
		require.LessOrEqual(t, off, high-low, "pixel %d, %+v", i, smoothing)
		if i > 60 {
			most = max(most, off)
		}
	}
	if smoothing.HalfLife > w.Width || smoothing.Median > w.Width {
		require.Less(t, most, 0.03, "%+v", smoothing)
	}
	t.Logf("%s %+v: off by %.4f at most", w.By, smoothing, most)
}

// A window deep in a long curve smooths with what comes before it, without reading all of that one by one.
func TestDeepWindowSmoothsFromFolds(t *testing.T) {
	f := start(t)
	const n = 500_000
	run, values := longCurve(t, f, n)
	w := curve.Window{By: curve.ByStep, From: 300_000, To: 302_000, Width: 4}
	for _, smoothing := range []curve.Smoothing{{HalfLife: 20_000}, {Median: 100_000}, {HalfLife: 10}} {
		got, err := f.View(ctx, store.Span{Run: run}, w, smoothing)
		require.NoError(t, err)
		exact := smoothing.Smoother()
		at, most := 0, 0.0
		for i, fold := range got["loss.train"].Folds {
			var want float64
			for ; at <= int(fold.Last.Step); at++ {
				want = exact.Next(float64(at), values[at])
			}
			most = max(most, math.Abs(want-got["loss.train"].Smooth[i]))
		}
		t.Logf("%+v: off by %.5f at most", smoothing, most)
		require.Less(t, most, 0.03, "%+v", smoothing)
	}
}
