package tensor

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// Quantiles lie within a bin of those of the sorted elements, which is the slow and obvious way.
func TestQuantiles(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 200 {
		values := make([]float64, 1+r.IntN(500))
		s := Statistics{Min: math.Inf(1), Max: math.Inf(-1)}
		for i := range values {
			values[i] = r.NormFloat64() * math.Pow(10, float64(r.IntN(5)))
			s.Min, s.Max = min(s.Min, values[i]), max(s.Max, values[i])
		}
		for _, v := range values {
			s.Histogram[min(int((v-s.Min)/(s.Max-s.Min)*Bins), Bins-1)]++
		}
		if s.Min == s.Max {
			continue
		}
		slices.Sort(values)
		last := math.Inf(-1)
		for _, share := range []float64{0, .05, .25, .5, .75, .95, 1} {
			got := s.Quantile(share)
			low := values[max(int(math.Ceil(share*float64(len(values))))-1, 0)]
			require.InDelta(t, low, got, 1.0001*(s.Max-s.Min)/Bins, "%v of %d", share, len(values))
			require.GreaterOrEqual(t, got, last)
			last = got
		}
	}
	require.True(t, math.IsNaN(Statistics{}.Quantile(.5)))
	huge := Statistics{Min: -math.MaxFloat64, Max: math.MaxFloat64}
	huge.Histogram[0], huge.Histogram[Bins-1] = 1, 1
	require.False(t, math.IsInf(huge.Quantile(.5), 0))
	require.Equal(t, math.MaxFloat64, huge.Quantile(1))
}
