package compare

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
)

func readings(values ...float64) (out []curve.Reading) {
	for i, v := range values {
		out = append(out, curve.Reading{Point: curve.Point{Step: int64(10 * i), Epoch: float64(i)}, Value: v})
	}
	return out
}

func TestRepeats(t *testing.T) {
	a := readings(1, 0.5, math.NaN(), 0)
	same := Repeats(a, readings(1, 0.5, math.NaN(), 0))
	require.Equal(t, Repeat{Readings: 4, Same: true}, same)
	near := Repeats(a, readings(1, 0.5*(1+1e-9), math.NaN(), math.Copysign(0, -1)))
	require.False(t, near.Same)
	require.InDelta(t, 1e-9, near.Difference, 1e-12)
	require.Nil(t, near.Since)
	far := Repeats(a, readings(1, 0.5, 0.2, 0.1))
	require.Equal(t, int64(20), far.Since.Step)
	require.True(t, math.IsNaN(far.Was))
	require.True(t, math.IsInf(far.Difference, 1))
	short := Repeats(a, readings(1, 0.5))
	require.Equal(t, Repeat{Readings: 2, Same: true}, short)
	twice := append(readings(1), readings(1, 0.7)[1], readings(1, 0.5)[1])
	require.True(t, Repeats(a, twice).Same, "the last reading of a step counts")
	require.False(t, Repeats(twice[:2], readings(1, 0.5)).Same)
	require.Equal(t, int64(0), Repeats(nil, a).Readings)
}
