package verdict

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
)

func epochs(values ...float64) []curve.Reading {
	out := make([]curve.Reading, len(values))
	for i, v := range values {
		out[i] = curve.Reading{Point: curve.Point{Step: int64(10 * (i + 1)), Epoch: float64(i + 1),
			Time: int64(1000 * i)}, Value: v}
	}
	return out
}

func TestStopRule(t *testing.T) {
	nan := math.NaN()
	lower, higher := Objective{"loss.val", Lower}, Objective{"accuracy.val", Higher}
	for name, c := range map[string]struct {
		o     Objective
		rule  StopRule
		in    []float64
		stop  float64 // epoch, 0: never
		best  float64
		saved float64
		lost  float64
	}{
		"patience":                {lower, StopRule{Patience: 2}, []float64{3, 2, 2.5, 2.4, 1}, 4, 2, 1, 1},
		"not yet":                 {lower, StopRule{Patience: 4}, []float64{3, 2, 2.5, 2.4, 2.2}, 0, 2, 0, 0},
		"equal is no improvement": {lower, StopRule{Patience: 2}, []float64{2, 2, 2}, 3, 1, 0, 0},
		"margin": {lower, StopRule{Patience: 2, Margin: 0.1},
			[]float64{1, 0.95, 0.92, 0.5}, 3, 3, 1, 0.42},
		"relative margin": {lower, StopRule{Patience: 2, Margin: 0.1, Relative: true},
			[]float64{10, 9.5, 9.2, 5}, 3, 3, 1, 4.2},
		"small steps that add up": {lower, StopRule{Patience: 3, Margin: 0.1},
			[]float64{1, 0.95, 0.89, 0.85, 0.78}, 0, 5, 0, 0},
		"higher": {higher, StopRule{Patience: 1}, []float64{0.5, 0.6, 0.6, 0.9}, 3, 2, 1, 0.3},
		"earliest": {lower, StopRule{Patience: 1, Earliest: 4},
			[]float64{1, 2, 2, 2, 2}, 4, 1, 1, 0},
		"not a number": {lower, StopRule{Patience: 9, Diverged: true},
			[]float64{1, nan, 0.5}, 2, 1, 1, 0.5},
		"not a number is no improvement": {lower, StopRule{Patience: 2}, []float64{1, nan, nan, 0.5}, 3, 1, 1, 0.5},
		"only divergence": {lower, StopRule{Diverged: true},
			[]float64{1, 2, 3, math.Inf(1)}, 4, 1, 0, 0},
	} {
		require.NoError(t, c.rule.Check(), name)
		got := Try(c.o, c.rule, epochs(c.in...))
		if c.stop == 0 {
			require.Nil(t, got.Stop, name)
		} else {
			require.NotNil(t, got.Stop, name)
			require.Equal(t, c.stop, got.Stop.Epoch, name)
			require.NotEmpty(t, got.Why(c.o, c.rule))
		}
		require.Equal(t, c.best, got.Best.Epoch, name)
		saved, _ := got.Saved()
		require.Equal(t, c.saved, saved, name)
		require.InDelta(t, c.lost, got.Lost(), 1e-9, name)
	}
	for _, bad := range []StopRule{{}, {Patience: -1}, {Patience: math.NaN()}, {Patience: 1, Margin: math.Inf(1)},
		{Patience: 1, Margin: 2, Relative: true}} {
		require.Error(t, bad.Check(), "%+v", bad)
	}
	require.Equal(t, "no improvement by 0.001 in 5 epochs, not before epoch 3, or not a number",
		StopRule{Patience: 5, Margin: 0.001, Earliest: 3, Diverged: true}.Say())
}

func TestStopRuleOfAnotherCurve(t *testing.T) {
	rule := StopRule{Objective: Objective{"accuracy.val", Higher}, Patience: 1}
	require.NoError(t, rule.Check())
	require.Equal(t, Objective{"accuracy.val", Higher}, rule.Of(Objective{"loss.val", Lower}))
	require.Equal(t, Objective{"loss.val", Lower}, StopRule{Patience: 1}.Of(Objective{"loss.val", Lower}))
	require.Equal(t, "no improvement of accuracy.val in 1 epoch", rule.Say())
	got := Try(rule.Of(Objective{"loss.val", Lower}), rule, epochs(0.5, 0.6, 0.6))
	require.Equal(t, "Stop rule: no improvement of accuracy.val in 1 epoch, in epoch 3. Best 0.6 in epoch 2.",
		got.Why(rule.Of(Objective{}), rule))
	rule.Objective.Direction = ""
	require.ErrorContains(t, rule.Check(), "direction")
}

// Where epochs are unknown the patience counts readings.
func TestStopRuleWithoutEpochs(t *testing.T) {
	readings := epochs(1, 2, 2, 2)
	for i := range readings {
		readings[i].Epoch = math.NaN()
	}
	got := Try(Objective{"loss.val", Lower}, StopRule{Patience: 2, Earliest: 50}, readings)
	require.EqualValues(t, 30, got.Stop.Step)
}

// What a watch decides does not hang on when it is asked: one that is begun anew from the first reading, as after a
// crash, agrees at every reading with one that was kept.
func TestWatchAgreesAfterACrash(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 300 {
		rule := StopRule{Patience: float64(1 + r.IntN(5)), Margin: 0.2 * r.Float64(), Relative: r.IntN(2) == 0}
		o := Objective{"loss.val", []Direction{Lower, Higher}[r.IntN(2)]}
		values := make([]float64, 30)
		for i := range values {
			values[i] = r.NormFloat64()
		}
		var kept Watch
		for i, v := range epochs(values...) {
			stop := kept.Add(o, rule, v)
			again := Try(o, rule, epochs(values...)[:i+1])
			require.Equal(t, kept, again.Watch)
			require.Equal(t, stop, again.Stop != nil)
		}
	}
}
