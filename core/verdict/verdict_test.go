package verdict

import (
	"math"
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
