package verdict

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
)

func TestObjective(t *testing.T) {
	o, err := ParseObjective(" accuracy.val  higher ")
	require.NoError(t, err)
	require.Equal(t, Objective{"accuracy.val", Higher}, o)
	require.Equal(t, "accuracy.val higher", o.String())
	for _, bad := range []string{"", "loss.val", "loss.val down", "lower", "loss\n lower"} {
		_, err := ParseObjective(bad)
		require.Error(t, err, bad)
	}
}

func summary(values ...float64) curve.Summary {
	s := curve.NewSummary()
	for i, v := range values {
		s.Add(curve.Reading{Point: curve.Point{Step: int64(10 * (i + 1)), Epoch: float64(i + 1)}, Value: v})
	}
	return s
}

func TestBestFollowsTheDirection(t *testing.T) {
	s := summary(3, 1, 2)
	low, _ := Objective{"loss.val", Lower}.Best(s)
	high, _ := Objective{"loss.val", Higher}.Best(s)
	require.EqualValues(t, 20, low.Step)
	require.EqualValues(t, 10, high.Step)
	_, ok := Objective{"loss.val", Lower}.Best(summary(math.NaN(), math.Inf(1)))
	require.False(t, ok)
}

// The median without sorting is that of the sorted values.
func TestMedian(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 61))
	for range 3000 {
		v := make([]float64, 1+r.IntN(40))
		for i := range v {
			v[i] = []float64{r.NormFloat64(), float64(r.IntN(4)), math.Inf(r.IntN(3) - 1)}[r.IntN(30)/14]
		}
		sorted := slices.Clone(v)
		slices.Sort(sorted)
		want := sorted[len(v)/2]
		if low := sorted[(len(v)-1)/2]; low != want {
			want = low + (want-low)/2
		}
		got := median(v)
		if !(math.IsNaN(want) && math.IsNaN(got)) && math.Float64bits(want+0) != math.Float64bits(got+0) {
			t.Fatalf("median of %v is %v, not %v", v, got, want)
		}
	}
}
