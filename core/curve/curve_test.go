package curve

import (
	"errors"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// odd are the values that an encoding is likely to spoil.
var odd = []float64{0, math.Copysign(0, -1), math.NaN(), math.Float64frombits(0x7ff0000000000001),
	math.Float64frombits(0xfff8dead0000beef),
	math.Inf(1), math.Inf(-1), math.SmallestNonzeroFloat64, math.MaxFloat64, math.Pi, 0.1, 1, -1, 0.5,
	math.MaxFloat32, 1e-40}

func randomBatch(r *rand.Rand) Batch {
	points := r.IntN(40)
	b := Batch{Axis: make([]Point, points)}
	step, time, form := int64(0), r.Int64N(1<<41), r.IntN(3)
	for i := range b.Axis {
		step += r.Int64N(100)
		time += r.Int64N(5000) - 1000
		b.Axis[i] = Point{Step: step, Time: time, Epoch: []float64{math.NaN(), float64(i / 3),
			float64(step) / 97}[form]}
	}
	for id := range r.IntN(6) {
		c := Column{Curve: id * r.IntN(1000)}
		if r.IntN(2) == 0 {
			c.Rows = []int{}
		}
		for row := range points {
			if c.Rows != nil {
				if r.IntN(3) == 0 {
					continue
				}
				c.Rows = append(c.Rows, row)
			}
			v := odd[r.IntN(len(odd))]
			if r.IntN(2) == 0 {
				v = float64(float32(r.NormFloat64()))
			}
			c.Values = append(c.Values, v)
		}
		b.Columns = append(b.Columns, c)
	}
	return b
}

func bitsOf(values []float64) []uint64 {
	out := make([]uint64, len(values))
	for i, v := range values {
		out[i] = math.Float64bits(v)
	}
	return out
}

func requireSame(t *testing.T, want, got Batch) {
	t.Helper()
	require.Len(t, got.Axis, len(want.Axis))
	for i, p := range want.Axis {
		require.Equal(t, p.Step, got.Axis[i].Step)
		require.Equal(t, p.Time, got.Axis[i].Time)
		require.Equal(t, math.IsNaN(p.Epoch), math.IsNaN(got.Axis[i].Epoch))
		if !math.IsNaN(p.Epoch) {
			require.Equal(t, p.Epoch, got.Axis[i].Epoch)
		}
	}
	require.Len(t, got.Columns, len(want.Columns))
	for i, c := range want.Columns {
		require.Equal(t, c.Curve, got.Columns[i].Curve)
		require.Equal(t, bitsOf(c.Values), bitsOf(got.Columns[i].Values), "every bit of every value")
		require.Equal(t, c.Rows == nil, got.Columns[i].Rows == nil)
		require.Equal(t, len(c.Rows), len(got.Columns[i].Rows))
		for k := range c.Rows {
			require.Equal(t, c.Rows[k], got.Columns[i].Rows[k])
		}
	}
}

func TestJournalKeepsEveryBit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		b := randomBatch(r)
		require.NoError(t, b.Check(0))
		got, err := DecodeJournal(AppendJournal(nil, b))
		require.NoError(t, err)
		requireSame(t, b, got)
	}
}

func TestJournalRefusesEveryTruncation(t *testing.T) {
	b := Batch{Axis: []Point{{Step: 1, Epoch: 0.5, Time: 1}, {Step: 2, Epoch: 1, Time: 2}},
		Columns: []Column{{Curve: 1, Values: []float64{1, 2}}, {Curve: 2, Rows: []int{1}, Values: []float64{math.Pi}}}}
	payload := AppendJournal(nil, b)
	for n := range payload {
		_, err := DecodeJournal(payload[:n])
		require.ErrorIs(t, err, ErrPayload, "cut after %d bytes", n)
	}
	_, err := DecodeJournal(append(payload, 0))
	require.ErrorIs(t, err, ErrPayload)
	payload[0] = 9
	_, err = DecodeJournal(payload)
	require.ErrorContains(t, err, "version 9")
}

func TestOneReadingIsSmall(t *testing.T) {
	b := Batch{Axis: []Point{{Step: 40, Epoch: 1, Time: 1_790_000_000_000}},
		Columns: []Column{{Curve: 3, Values: []float64{0.71}}}}
	require.LessOrEqual(t, len(AppendJournal(nil, b)), 26)
}

func FuzzDecodeJournal(f *testing.F) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 20 {
		f.Add(AppendJournal(nil, randomBatch(r)))
	}
	f.Add([]byte{1, 0, 0xff, 0xff, 0xff, 0xff, 0x0f})
	f.Fuzz(func(t *testing.T, payload []byte) {
		b, err := DecodeJournal(payload)
		if err != nil {
			if !errors.Is(err, ErrPayload) {
				t.Fatalf("unexpected kind of error: %v", err)
			}
			return
		}
		again, err := DecodeJournal(AppendJournal(nil, b))
		if err != nil {
			t.Fatalf("what was decoded cannot be encoded again: %v", err)
		}
		requireSame(t, b, again)
	})
}

func TestBatchCheck(t *testing.T) {
	at := func(steps ...int64) Batch {
		b := Batch{}
		for _, s := range steps {
			b.Axis = append(b.Axis, Point{Step: s})
		}
		return b
	}
	with := func(b Batch, c Column) Batch { b.Columns = []Column{c}; return b }
	tests := map[string]struct {
		batch Batch
		after int64
		want  string
	}{
		"rising":               {at(1, 2, 2, 3), 1, ""},
		"falls":                {at(5, 4), 0, "goes back from step 5 to step 4"},
		"falls behind the leg": {at(5), 6, "goes back from step 6 to step 5"},
		"infinite epoch":       {Batch{Axis: []Point{{Epoch: math.Inf(1)}}}, 0, "epoch"},
		"negative epoch":       {Batch{Axis: []Point{{Epoch: -1}}}, 0, "epoch"},
		"too few values":       {with(at(1, 2), Column{Values: []float64{1}}), 0, "1 values for 2 points"},
		"row outside":          {with(at(1, 2), Column{Rows: []int{2}, Values: []float64{1}}), 0, "row 2"},
		"rows fall": {with(at(1, 2), Column{Rows: []int{1, 0}, Values: []float64{1, 2}}), 0,
			"row 0 after row 1"},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			err := test.batch.Check(test.after)
			if test.want == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, test.want)
			}
		})
	}
}

func TestBuilderGathersWhatWasAdded(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		type key struct {
			row  int
			name string
		}
		want, row, b := map[key]uint64{}, 0, Builder{}
		for range r.IntN(5) {
			part := randomBatch(r)
			names := make([]string, len(part.Columns))
			for i := range names {
				names[i] = string(rune('a' + i))
			}
			for i, c := range part.Columns {
				for k, v := range c.Values {
					at := k
					if c.Rows != nil {
						at = c.Rows[k]
					}
					want[key{row + at, names[i]}] = math.Float64bits(v)
				}
			}
			row += len(part.Axis)
			b.Add(names, part)
		}
		got := map[key]uint64{}
		batch := b.Batch()
		for i, c := range batch.Columns {
			for k, v := range c.Values {
				at := k
				if c.Rows != nil {
					at = c.Rows[k]
				}
				got[key{at, b.Names[i]}] = math.Float64bits(v)
			}
		}
		require.Equal(t, want, got)
		require.Equal(t, len(want), b.Len())
		require.Len(t, batch.Axis, row)
		for _, c := range batch.Columns {
			require.NoError(t, c.check(row))
		}
	}
}

func TestEndsAsTheSlowWaySays(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 500 {
		starts := make([]int64, r.IntN(6))
		for i := range starts {
			starts[i] = r.Int64N(20)
		}
		ends := Ends(starts)
		for i := range starts {
			for step := range int64(25) {
				counts := true
				for _, later := range starts[i+1:] {
					counts = counts && step < later
				}
				require.Equal(t, counts, step < ends[i], "leg %d of %v at step %d", i, starts, step)
			}
		}
	}
}

func TestSummary(t *testing.T) {
	s := NewSummary()
	require.True(t, math.IsNaN(s.Lowest.Value))
	for i, v := range []float64{3, math.NaN(), 1, math.Inf(-1), 1, 2, math.NaN()} {
		s.Add(Reading{Point: Point{Step: int64(i)}, Value: v})
	}
	require.EqualValues(t, 7, s.Count)
	require.EqualValues(t, 2, s.NaN)
	require.EqualValues(t, 1, s.Infinite)
	require.EqualValues(t, 2, s.Lowest.Step, "of equal values the earlier")
	require.EqualValues(t, 3, s.Highest.Value)
	require.EqualValues(t, 6, s.Last.Step)
}

func TestSketchStaysSmallAndEven(t *testing.T) {
	for _, n := range []int{0, 1, 63, 64, 65, 129, 10_000} {
		s := NewSummary()
		for i := range n {
			s.Add(Reading{Value: float64(i)})
		}
		require.LessOrEqual(t, len(s.Sketch.Values), sketchSize)
		if n > 0 {
			require.GreaterOrEqual(t, len(s.Sketch.Values), min(n, sketchSize/2))
		}
		for k, v := range s.Sketch.Values {
			require.EqualValues(t, int64(k)*s.Sketch.Every, v)
		}
	}
}

func TestNames(t *testing.T) {
	for _, good := range []string{"loss", "loss.val", "overlap per class.tug.val", "host.cpu", "λ",
		strings.Repeat("a", MaxName)} {
		require.NoError(t, CheckName(good), good)
	}
	for _, bad := range []string{"", ".", "loss.", ".val", "a..b", " loss", "loss\n", "a\x00b", "a/b", "a@b", "a,b",
		`a"b`, "a\x7f", "\xff", "a\u202eb", strings.Repeat("a", MaxName+1)} {
		require.Error(t, CheckName(bad), "%q", bad)
	}
	for name, want := range map[string][2]string{"loss.val": {"loss", "val"}, "host.cpu": {"host.cpu", ""},
		"a.b.test": {"a.b", "test"}, "train": {"train", ""}} {
		measure, split := SplitName(name)
		require.Equal(t, want, [2]string{measure, split})
	}
}
