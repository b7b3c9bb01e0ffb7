package curves

import (
	"context"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/slicetest"
	"kembrel/store"
)

// log is a storage of readings in memory, which counts how often it is asked.
type log struct {
	*slicetest.Harbour
	names  []string
	points map[string][]curve.Point
	values map[string][]float64
	spans  []store.Span
	views  []curve.Window
}

func (l *log) CachedCurves(context.Context, int64, []string, int) (*store.RunCurves, error) {
	numbers := map[string]int{}
	for i, name := range l.names {
		numbers[name] = i + 1
	}
	return store.NewRunCurves(numbers), nil
}

func (l *log) Scan(_ context.Context, s store.Span, each func(string, []curve.Point, []float64) error) error {
	l.spans = append(l.spans, s)
	for _, name := range l.names {
		if s.Names != nil && !slices.Contains(s.Names, name) {
			continue
		}
		if err := each(name, l.points[name], l.values[name]); err != nil {
			return err
		}
	}
	return nil
}

func (l *log) View(_ context.Context, s store.Span, w curve.Window, _ curve.Smoothing) (map[string]store.Folded,
	error) {
	l.views = append(l.views, w)
	out := map[string]store.Folded{}
	for _, name := range l.names {
		if s.Names != nil && !slices.Contains(s.Names, name) {
			continue
		}
		r := curve.Reducer{Window: w}
		r.Readings(l.points[name], l.values[name])
		out[name] = store.Folded{Folds: r.Folds}
	}
	return out, nil
}

func (l *log) Extent(context.Context, int64, curve.By) (from, to float64, ok bool, err error) {
	return 1, 1000, true, nil
}

func fresh(curves map[string]int) (*Curves, *log) {
	l := &log{Harbour: slicetest.New(1), points: map[string][]curve.Point{}, values: map[string][]float64{}}
	l.Legs[101] = []store.Leg{{Number: 1}}
	for name, n := range curves {
		l.names = append(l.names, name)
		for i := range n {
			l.points[name] = append(l.points[name], curve.Point{Step: int64(i + 1), Epoch: float64(i+1) / 10,
				Time: int64(1000 * i)})
			v := float64(i)
			if i%7 == 3 {
				v = math.NaN()
			}
			l.values[name] = append(l.values[name], v)
		}
		l.Sums[101] = append(l.Sums[101], store.Summary{Name: name, Count: int64(n)})
	}
	slices.Sort(l.names)
	return New(l.Finder(), l), l
}

func asked(names ...string) *api.CurvesInput {
	return &api.CurvesInput{RunInput: api.RunInput{ProjectInput: slicetest.In, Number: 1}, Names: names}
}

// Curves of equal steps share an axis; those of others have their own.
func TestAxesAreShared(t *testing.T) {
	s, _ := fresh(map[string]int{"loss.train": 30, "loss.val": 30, "lr": 12})
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	got, err := s.GetCurves(ctx, who, asked())
	require.NoError(t, err)
	require.Len(t, got.Curves, 3)
	require.Len(t, got.Axes, 2)
	require.Equal(t, got.Curves[0].Axis, got.Curves[1].Axis)
	require.NotEqual(t, got.Curves[0].Axis, got.Curves[2].Axis)
	require.True(t, math.IsNaN(float64(got.Curves[0].Value[3])))
	require.EqualValues(t, 30, got.Axes[got.Curves[0].Axis].Step[29])
	require.Equal(t, 1, got.Legs)
}

func TestPixels(t *testing.T) {
	s, l := fresh(map[string]int{"loss.val": 1000})
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := asked("loss.val")
	in.Pixels = 100
	got, err := s.GetCurves(ctx, who, in)
	require.NoError(t, err)
	require.LessOrEqual(t, len(got.Curves[0].Value), 101)
	require.GreaterOrEqual(t, got.Width, 10.0)
	require.NotEmpty(t, got.Curves[0].NaN, "what was not a number is seen")
	require.Len(t, l.views, 1)
	require.Empty(t, l.spans, "folds are enough")
}

// What is too much to send is refused before it is read, with what to do instead.
func TestTooMuch(t *testing.T) {
	s, l := fresh(map[string]int{"loss.val": 10})
	l.Sums[101][0].Count = maxWhole + 1
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	_, err := s.GetCurves(ctx, who, asked())
	require.ErrorContains(t, err, "ask for a number of pixels")
	require.Empty(t, l.spans)
	in := asked()
	in.From, in.To = 3, 6
	got, err := s.GetCurves(ctx, who, in)
	require.NoError(t, err, "a window of steps is read")
	require.Len(t, got.Curves[0].Value, 4)
	require.EqualValues(t, 3, l.spans[0].From)
	require.EqualValues(t, 6, l.spans[0].To)
}

func TestOddWindows(t *testing.T) {
	s, _ := fresh(map[string]int{"loss.val": 10})
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	for says, change := range map[string]func(in *api.CurvesInput){
		"smoothing over -1":   func(in *api.CurvesInput) { in.Smooth = -1 },
		"there is no run":     func(in *api.CurvesInput) { in.Number = 4 },
		"there is no project": func(in *api.CurvesInput) { in.Project = "quays" },
		"has no curve":        func(in *api.CurvesInput) { in.Names = []string{"lr"} },
	} {
		in := asked("loss.val")
		change(in)
		_, err := s.GetCurves(ctx, who, in)
		require.ErrorContains(t, err, says)
	}
}
