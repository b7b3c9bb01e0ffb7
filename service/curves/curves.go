package curves

import (
	"context"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/store"
)

// maxWhole is how many readings one answer brings when they are not folded.
const maxWhole = 2_000_000

// GetCurves reads curves of a run in a window of an axis, folded by pixels or whole.
func (s *Curves) GetCurves(ctx context.Context, _ act.Who, in *api.CurvesInput) (*api.Curves, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if err := s.checkNames(ctx, run, in); err != nil {
		return nil, err
	}
	w, smoothing, err := s.window(ctx, run, in)
	if err != nil {
		return nil, err
	}
	legs, err := s.db.ListLegs(ctx, run)
	if err != nil {
		return nil, err
	}
	out := &api.Curves{Legs: len(legs), Width: w.Width, Axes: []api.Axis{}, Curves: []api.Curve{}}
	shared := &sharer{out: out}
	if w.Width > 0 {
		folds, err := s.readings.View(ctx, store.Span{Run: run, Names: in.Names, Leg: in.Leg}, w, smoothing)
		if err != nil {
			return nil, err
		}
		names := make([]string, 0, len(folds))
		for name := range folds {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			shared.add(name, folds[name].Folds, folds[name].Smooth)
		}
		return out, nil
	}
	return out, s.readWhole(ctx, store.Span{Run: run, Names: in.Names, Leg: in.Leg}, w, smoothing, shared)
}

// readWhole reads every reading of the window, and what smoothing needs before it.
func (s *Curves) readWhole(ctx context.Context, span store.Span, w curve.Window, smoothing curve.Smoothing,
	shared *sharer) error {
	sums, err := s.db.Summaries(ctx, []int64{span.Run}, "")
	if err != nil {
		return err
	}
	total := int64(0)
	for _, c := range sums {
		if span.Names == nil || slices.Contains(span.Names, c.Name) {
			total += c.Count
		}
	}
	if whole := w.By != curve.ByStep || w.From <= 0 && math.IsInf(w.To, 1); whole && total > maxWhole {
		return api.Fail(api.Invalid,
			"these curves have %d readings; ask for a number of pixels, for a window of steps, or export them", total)
	}
	if w.By == curve.ByStep {
		span.From = int64(max(0, math.Floor(w.From-smoothing.Memory())))
		if w.To < math.MaxInt64/2 {
			span.To = max(1, int64(w.To))
		}
	}
	current, reducer := "", curve.Reducer{}
	held := 0
	finish := func() {
		if len(reducer.Folds) > 0 {
			shared.add(current, reducer.Folds, reducer.Smooth)
			held += len(reducer.Folds)
		}
	}
	err = s.readings.Scan(ctx, span, func(name string, points []curve.Point, values []float64) error {
		if name != current {
			finish()
			current, reducer = name, curve.Reducer{Window: w}
			if !smoothing.None() {
				reducer.Smoother = smoothing.Smoother()
			}
		}
		if held+len(reducer.Folds) > maxWhole {
			return api.Fail(api.Invalid, "the window holds more than %d readings; ask for a number of pixels", maxWhole)
		}
		reducer.Readings(points, values)
		return nil
	})
	if err == nil {
		finish()
	}
	return err
}

// window is the window that was asked for, its ends filled in.
func (s *Curves) window(ctx context.Context, run int64, in *api.CurvesInput) (curve.Window, curve.Smoothing, error) {
	w := curve.Window{By: curve.By(in.By), From: in.From, To: in.To, Width: in.Width}
	if w.By == "" {
		w.By = curve.ByStep
	}
	if w.To == 0 {
		w.To = math.Inf(1)
	}
	smoothing := curve.Smoothing{HalfLife: in.Smooth, Median: in.Median}
	if err := smoothing.Check(); err != nil {
		return w, smoothing, api.Fail(api.Invalid, "%v", err)
	}
	if w.Width == 0 && in.Pixels > 0 {
		from, to, ok, err := s.readings.Extent(ctx, run, w.By)
		if err != nil {
			return w, smoothing, err
		}
		if ok {
			from, to = max(from, w.From), min(to, w.To)
			if w.Width = curve.PixelWidth(w.By, from, to, in.Pixels); w.Width == 0 {
				w.Width = 1 // one place on the axis is one pixel
			}
		}
	}
	if err := w.Check(); err != nil {
		return w, smoothing, api.Fail(api.Invalid, "%v", err)
	}
	return w, smoothing, nil
}

// sharer fills an answer, giving equal axes once.
type sharer struct {
	out   *api.Curves
	known map[[2]int64][]int // by length and last step: indices of axes
}

func (s *sharer) add(name string, folds []curve.Fold, smooth []float64) {
	n := len(folds)
	axis := api.Axis{Step: make(api.Ints, n), Epoch: make(api.Floats, n), Time: make(api.Ints, n)}
	c := api.Curve{Name: name, Value: make(api.Floats, n), Smooth: smooth}
	single, nan, infinite := true, false, false
	for i, f := range folds {
		axis.Step[i], axis.Epoch[i], axis.Time[i], c.Value[i] = f.Last.Step, f.Last.Epoch, f.Last.Time, f.Last.Value
		single, nan, infinite = single && f.N == 1, nan || f.NaN > 0, infinite || f.Infinite > 0
	}
	if !single {
		c.Count, c.Min, c.Max, c.Mean = make(api.Ints, n), make(api.Floats, n), make(api.Floats, n), make(api.Floats, n)
		if nan {
			c.NaN = make(api.Ints, n)
		}
		if infinite {
			c.Infinite = make(api.Ints, n)
		}
		for i, f := range folds {
			c.Count[i], c.Min[i], c.Max[i], c.Mean[i] = f.N, f.Min, f.Max, curve.Single(f.Mean)
			if nan {
				c.NaN[i] = f.NaN
			}
			if infinite {
				c.Infinite[i] = f.Infinite
			}
		}
	}
	c.Axis = s.axis(axis)
	s.out.Curves = append(s.out.Curves, c)
}

func (s *sharer) axis(a api.Axis) int {
	if s.known == nil {
		s.known = map[[2]int64][]int{}
	}
	key := [2]int64{int64(len(a.Step)), a.Step[len(a.Step)-1]}
	for _, i := range s.known[key] {
		if o := s.out.Axes[i]; slices.Equal(o.Step, a.Step) && slices.Equal(o.Time, a.Time) &&
			sameEpochs(o.Epoch, a.Epoch) {
			return i
		}
	}
	s.out.Axes = append(s.out.Axes, a)
	i := len(s.out.Axes) - 1
	s.known[key] = append(s.known[key], i)
	return i
}

func sameEpochs(a, b []float64) bool {
	return slices.EqualFunc(a, b, func(x, y float64) bool { return x == y || math.IsNaN(x) && math.IsNaN(y) })
}

// checkNames refuses names that the run has no curve of.
func (s *Curves) checkNames(ctx context.Context, run int64, in *api.CurvesInput) error {
	known, err := s.db.CachedCurves(ctx, run, in.Names, 0)
	if err != nil {
		return err
	}
	for _, name := range in.Names {
		if _, ok := known.Numbers[name]; ok {
			continue
		}
		names := slices.Sorted(maps.Keys(known.Numbers))
		if len(names) > 8 {
			names = append(names[:8], "...")
		}
		return api.Fail(api.NotFound, "%s has no curve %q; it has: %s", act.RunAddress(in.Project, in.Number), name,
			strings.Join(names, ", "))
	}
	return nil
}
