package curve

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// series are the shapes that each codec is made for, and those that it might spoil.
func series(r *rand.Rand, n int) map[string][]float64 {
	out := map[string][]float64{}
	of := func(name string, f func(i int) float64) {
		v := make([]float64, n)
		for i := range v {
			v[i] = f(i)
		}
		out[name] = v
	}
	of("constant", func(int) float64 { return 0.1 })
	of("alternating", func(i int) float64 { return float64(i % 2) })
	of("odd values", func(int) float64 { return odd[r.IntN(len(odd))] })
	of("any bits", func(int) float64 { return math.Float64frombits(r.Uint64()) })
	of("any single bits", func(int) float64 { return float64(math.Float32frombits(r.Uint32())) })
	of("noisy single loss", func(i int) float64 {
		return float64(float32(math.Exp(-float64(i)/500) +
			0.1*r.NormFloat64()))
	})
	of("noisy loss", func(i int) float64 { return math.Exp(-float64(i)/500) + 0.1*r.NormFloat64() })
	of("schedule", func(i int) float64 { return 0.1 * (1 - float64(i)/10_000) })
	of("rounded", func(i int) float64 {
		return math.Round(1e4*(1-math.Exp(-float64(i)/300)+0.01*r.NormFloat64())) / 1e4
	})
	of("counted", func(i int) float64 { return float64(r.IntN(100)) / 160 })
	of("negative rounded", func(i int) float64 { return -float64(i+1) / 100 })
	of("minus zero", func(int) float64 { return math.Copysign(0, -1) })
	return out
}

func TestValuesKeepEveryBit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{0, 1, 2, 3, 31, 32, 33, 127, 128, 129, 1000, 4095, MaxBlock} {
		for name, values := range series(r, n) {
			packed := AppendValues(nil, values)
			got, err := DecodeValues(packed)
			require.NoError(t, err, "%s, %d", name, n)
			require.Equal(t, bitsOf(values), bitsOf(got), "%s, %d", name, n)
			require.LessOrEqual(t, len(packed), 8*n+24, "%s, %d", name, n)
		}
	}
}

// How small each shape gets, in bytes per reading of a full block; a codec that stops being chosen shows here.
func TestValuesGetSmall(t *testing.T) {
	limits := map[string]float64{"constant": 0.01, "alternating": 0.2, "noisy single loss": 3.5, "noisy loss": 7.4,
		"schedule": 3.1, "rounded": 1.7,
		"counted": 1.05, "negative rounded": 0.02, "minus zero": 0.01}
	for name, values := range series(rand.New(rand.NewPCG(1, 2)), MaxBlock) {
		if limit, ok := limits[name]; ok {
			require.LessOrEqual(t, float64(len(AppendValues(nil, values)))/MaxBlock, limit, name)
		}
	}
}

func axes(r *rand.Rand, n int) map[string][]Point {
	out := map[string][]Point{}
	of := func(name string, f func(i int) Point) {
		p := make([]Point, n)
		for i := range p {
			p[i] = f(i)
		}
		out[name] = p
	}
	of("even", func(i int) Point {
		return Point{Step: int64(i) * 10, Epoch: float64(i*10) / 937, Time: 1790000000000 + int64(i)*40}
	})
	of("per epoch", func(i int) Point {
		return Point{Step: int64(i) * 937, Epoch: float64(i), Time: 1790000000000 + int64(i)*40_000 + r.Int64N(900)}
	})
	of("no epochs", func(i int) Point { return Point{Step: int64(i), Epoch: math.NaN(), Time: int64(i)} })
	of("any", func(i int) Point { return Point{Step: r.Int64(), Epoch: r.Float64(), Time: -r.Int64()} })
	of("far apart", func(i int) Point {
		return Point{Step: math.MaxInt64 * int64(i%2), Epoch: float64(i % 7), Time: math.MinInt64 * int64(i%2)}
	})
	of("epochs of another", func(i int) Point { return Point{Step: int64(i), Epoch: float64(i)/3 + 0.1} })
	return out
}

func requirePoints(t *testing.T, want, got []Point, about string) {
	t.Helper()
	require.Len(t, got, len(want), about)
	for i := range want {
		if math.IsNaN(want[i].Epoch) && math.IsNaN(got[i].Epoch) {
			got[i].Epoch, want[i].Epoch = 0, 0
		}
		require.Equal(t, want[i], got[i], about)
	}
}

func TestAxisComesBackEqual(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{1, 2, 3, 100, MaxBlock} {
		for name, points := range axes(r, n) {
			packed := AppendAxis(nil, points)
			got, err := DecodeAxis(packed)
			require.NoError(t, err, name)
			requirePoints(t, points, got, name)
			if name == "even" && n == MaxBlock {
				require.Less(t, len(packed), 64)
			}
		}
	}
}

// slowFold is a fold as one would say it.
func slowFold(points []Point, values []float64) Fold {
	f := Fold{N: int64(len(values)), Min: math.NaN(), Max: math.NaN(), Mean: math.NaN(),
		Last: Reading{points[len(points)-1], values[len(values)-1]}}
	var finite []float64
	for _, v := range values {
		switch {
		case math.IsNaN(v):
			f.NaN++
		case math.IsInf(v, 0):
			f.Infinite++
		default:
			finite = append(finite, v)
		}
	}
	if len(finite) > 0 {
		f.Min, f.Max, f.Mean = slices.Min(finite), slices.Max(finite), 0
		for _, v := range finite {
			f.Mean += v / float64(len(finite))
		}
	}
	return f
}

func requireFold(t *testing.T, want, got Fold, about string) {
	t.Helper()
	require.Equal(t, [3]int64{want.N, want.NaN, want.Infinite}, [3]int64{got.N, got.NaN, got.Infinite}, about)
	require.Equal(t, math.Float64bits(want.Min+0), math.Float64bits(got.Min+0), about)
	require.Equal(t, math.Float64bits(want.Max+0), math.Float64bits(got.Max+0), about)
	require.Equal(t, math.Float64bits(want.Last.Value), math.Float64bits(got.Last.Value), about)
	requirePoints(t, []Point{want.Last.Point}, []Point{got.Last.Point}, about)
	require.Equal(t, math.IsNaN(want.Mean), math.IsNaN(got.Mean), about)
	if !math.IsNaN(want.Mean) {
		scale := max(math.Abs(want.Min), math.Abs(want.Max))
		require.InDelta(t, 0, (want.Mean-got.Mean)/max(scale, math.SmallestNonzeroFloat64), 1e-6, about)
	}
}

func TestFoldsAsTheSlowWay(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for name, values := range series(r, 1000) {
		points := axes(r, len(values))["even"]
		folds := FoldValues(points, values, 128)
		require.Len(t, folds, 8)
		first, packed, err := DecodeFolds(AppendFolds(nil, points[0], folds))
		require.NoError(t, err, name)
		require.Equal(t, points[0], first)
		for i := range folds {
			want := slowFold(points[i*128:min(1000, i*128+128)], values[i*128:min(1000, i*128+128)])
			requireFold(t, want, folds[i], name)
			requireFold(t, want, packed[i], name+", packed")
		}
		var whole Fold
		for _, f := range packed {
			whole.Add(f)
		}
		requireFold(t, slowFold(points, values), whole, name+", merged")
		var single Fold
		for i, v := range values {
			single.Add(One(Reading{points[i], v}))
		}
		requireFold(t, slowFold(points, values), single, name+", one by one")
	}
}

// Blocks that become full bit by bit raise the same levels as if all had been there at once, and each level says what
// its readings say.
func TestRaiseFoldsInPieces(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	n := 150 * MaxBlock
	points, values := make([]Point, n), make([]float64, n)
	for i := range points {
		points[i], values[i] = Point{Step: int64(i), Epoch: float64(i) / 1000, Time: int64(i) * 20}, r.NormFloat64()
	}
	blocks := Cut(0, points, values)
	rows, tails := map[[2]int]FoldRow{}, map[int]FoldRow{}
	for from := 0; from < len(blocks); {
		to := min(len(blocks), from+r.IntN(40))
		for _, row := range RaiseFolds(tails, blocks[from:to]) {
			rows[[2]int{row.Level, row.Seq}] = row
			tails[row.Level] = row
		}
		from = to
	}
	for level := 2; level <= 4; level++ {
		size, at := int(FoldSize(level)), 0
		for seq := 0; ; seq++ {
			row, ok := rows[[2]int{level, seq}]
			if !ok {
				break
			}
			require.LessOrEqual(t, row.First.Step, points[at].Step)
			require.GreaterOrEqual(t, row.First.Step, points[max(0, at-1)].Step)
			for _, f := range row.Folds {
				requireFold(t, slowFold(points[at:at+size], values[at:at+size]), f,
					fmt.Sprint("level ", level, " from ", at))
				at += size
			}
		}
		require.Equal(t, n/size*size, at, "level %d covers all whole folds", level)
	}
}

func TestPixelWidth(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 2000 {
		from := r.Float64() * 1e6
		to, pixels := from+math.Exp(20*r.Float64()-5), 1+r.IntN(3000)
		w := PixelWidth(ByEpoch, from, to, pixels)
		used := math.Floor(to/w) - math.Floor(from/w) + 1
		require.LessOrEqual(t, used, float64(pixels)+1)
		require.Greater(t, used, float64(pixels-1)*0.79-2, "not much coarser than asked for")
	}
	require.Zero(t, PixelWidth(ByStep, 5, 5, 100))
	require.EqualValues(t, 1, PixelWidth(ByStep, 0, 10, 1000))
}

// What a reducer makes of readings is what the slow way makes of each pixel.
func TestReducerAsTheSlowWay(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	values := series(r, 2000)["odd values"]
	points := axes(r, 2000)["even"]
	w := Window{By: ByEpoch, From: 3, To: 15.5, Width: 0.25}
	reducer := Reducer{Window: w}
	type pixel struct {
		points []Point
		values []float64
	}
	slow, order := map[float64]*pixel{}, []float64{}
	for i, v := range values {
		reducer.Reading(Reading{points[i], v})
		if e := points[i].Epoch; e >= 3 && e <= 15.5 {
			k := math.Floor(e / 0.25)
			if slow[k] == nil {
				slow[k], order = &pixel{}, append(order, k)
			}
			slow[k].points, slow[k].values = append(slow[k].points, points[i]), append(slow[k].values, v)
		}
	}
	together := Reducer{Window: w}
	for from := 0; from < len(values); from += 300 {
		to := min(len(values), from+300)
		together.Readings(points[from:to], values[from:to])
	}
	require.Len(t, together.Folds, len(reducer.Folds))
	for i, f := range reducer.Folds {
		requireFold(t, f, together.Folds[i], fmt.Sprint("together, pixel ", i))
	}
	require.Len(t, reducer.Folds, len(order))
	for i, k := range order {
		requireFold(t, slowFold(slow[k].points, slow[k].values), reducer.Folds[i], fmt.Sprint("pixel ", k))
	}
}

// smoothed is what a smoother makes of whole slices.
func smoothed(s Smoothing, x, values []float64) []float64 {
	out, smoother := make([]float64, len(values)), s.Smoother()
	for i, v := range values {
		out[i] = smoother.Next(x[i], v)
	}
	return out
}

func TestSmoothing(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	x, y := make([]float64, 300), make([]float64, 300)
	for i := range x {
		x[i], y[i] = float64(i)+r.Float64()*0.5, r.NormFloat64()
		if i%17 == 3 {
			y[i] = odd[i%len(odd)]
		}
	}
	finite := func(v float64) bool { return !math.IsNaN(v) && !math.IsInf(v, 0) && math.Abs(v) < 1e30 }
	for i := range y {
		if !finite(y[i]) && !math.IsNaN(y[i]) {
			y[i] = math.Inf(1)
		}
	}
	exponential := smoothed(Smoothing{HalfLife: 3}, x, y)
	median := smoothed(Smoothing{Median: 10}, x, y)
	require.Equal(t, y[0], exponential[0])
	for i := range y {
		if !finite(y[i]) {
			require.Equal(t, math.Float64bits(y[i]), math.Float64bits(exponential[i]))
			continue
		}
		var sum, weight float64
		var window []float64
		for k := 0; k <= i; k++ {
			if !finite(y[k]) {
				continue
			}
			w := math.Exp2(-(x[i] - x[k]) / 3)
			sum, weight = sum+w*y[k], weight+w
			if x[k] > x[i]-10 {
				window = append(window, y[k])
			}
		}
		require.InDelta(t, sum/weight, exponential[i], 1e-9)
		slices.Sort(window)
		middle := window[len(window)/2]
		if len(window)%2 == 0 {
			middle = (window[len(window)/2-1] + middle) / 2
		}
		require.InDelta(t, middle, median[i], 1e-9)
	}
	require.Error(t, Smoothing{HalfLife: -1}.Check())
	require.Error(t, Smoothing{HalfLife: 1, Median: 1}.Check())
	require.Error(t, Smoothing{Median: math.NaN()}.Check())
}

func fuzzSeeds(f *testing.F) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, n := range []int{0, 1, 40, 300} {
		for _, v := range series(r, n) {
			f.Add(AppendValues(nil, v))
			if n > 0 {
				f.Add(AppendFolds(nil, Point{}, FoldValues(axes(r, n)["even"], v, 16)))
			}
		}
		if n > 0 {
			for _, p := range axes(r, n) {
				f.Add(AppendAxis(nil, p))
			}
		}
	}
	f.Add([]byte{1, 0xff, 0xff, 0xff, 0xff, 0x0f})
}

// Whatever decodes, encodes and decodes to the same; nothing panics, and nothing takes more than a block's memory.
func FuzzDecodeBlock(f *testing.F) {
	fuzzSeeds(f)
	f.Fuzz(func(t *testing.T, payload []byte) {
		if v, err := DecodeValues(payload); err == nil {
			again, err := DecodeValues(AppendValues(nil, v))
			require.NoError(t, err)
			require.Equal(t, bitsOf(v), bitsOf(again))
		} else {
			require.ErrorIs(t, err, ErrPayload)
		}
		if p, err := DecodeAxis(payload); err == nil && len(p) > 0 {
			again, err := DecodeAxis(AppendAxis(nil, p))
			require.NoError(t, err)
			requirePoints(t, p, again, "axis")
		}
		if _, folds, err := DecodeFolds(payload); err == nil {
			require.NotEmpty(t, folds)
		}
	})
}

func BenchmarkAppendValues(b *testing.B) {
	for name, values := range series(rand.New(rand.NewPCG(1, 2)), MaxBlock) {
		b.Run(name, func(b *testing.B) {
			var out []byte
			for b.Loop() {
				out = AppendValues(out[:0], values)
			}
			b.ReportMetric(float64(len(out))/MaxBlock, "bytes/reading")
			b.ReportMetric(float64(MaxBlock*b.N)/b.Elapsed().Seconds()/1e6, "Mreadings/s")
		})
	}
}

func BenchmarkDecodeValues(b *testing.B) {
	for name, values := range series(rand.New(rand.NewPCG(1, 2)), MaxBlock) {
		packed := AppendValues(nil, values)
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := DecodeValues(packed); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(MaxBlock*b.N)/b.Elapsed().Seconds()/1e6, "Mreadings/s")
		})
	}
}
