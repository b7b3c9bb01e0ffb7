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

func TestSay(t *testing.T) {
	lower := Objective{"loss.val", Lower}
	nan := math.NaN()
	for want, s := range map[string]curve.Summary{
		"No reading of loss.val yet.":                                                        summary(),
		"loss.val never was a number: all 2 readings are NaN or infinite.":                   summary(nan, math.Inf(1)),
		"The last loss.val, 0.5 in epoch 2, is the best so far.":                             summary(1, 0.5),
		"Best loss.val 0.4 in epoch 1; none better in the 2 epochs since, now 25 % worse.":   summary(0.4, 0.6, 0.5),
		"loss.val is no longer a number (NaN in epoch 3). It was best at 0.5 in epoch 2.":    summary(1, 0.5, nan),
		"loss.val is no longer a number (infinity in epoch 2). It was best at 1 in epoch 1.": summary(1, math.Inf(1)),
		"Best loss.val 1 in epoch 1; none better in the 1 epoch since.":                      summary(1, 1),
	} {
		require.Equal(t, want, Say(lower, s))
	}
}
