package comparing

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/compare"
	"kembrel/store"
)

// The data on which most runs were evaluated comes first, and what raises an alarm does not count as the best.
func TestEvaluated(t *testing.T) {
	b := &bench{}
	for _, x := range []struct {
		run      int64
		on       string
		measures string
		alarmed  bool
	}{{7, "hydrophone#2:test", `{"accuracy": 0.7, "loss": 0.8, "kappa": 0.5}`, false},
		{8, "hydrophone#2:test", `{"accuracy": 0.8, "loss": "NaN"}`, false},
		{9, "hydrophone#2:test", `{"accuracy": 0.95, "loss": 0.1}`, true}, {7, "val", `{"rmse": 3}`, false},
		{9, "val", `{"rmse": 2}`, false}} {
		b.found = append(b.found, store.LatestEvaluation{Run: x.run, On: x.on, Measures: json.RawMessage(x.measures),
			Alarmed: x.alarmed})
	}
	s := &Comparing{db: b}
	groups := []compare.Group{{Runs: []int{0, 1}}, {Runs: []int{2}}}
	rows, err := s.evaluated(t.Context(), []store.Run{{ID: 7}, {ID: 8}, {ID: 9}}, groups)
	require.NoError(t, err)
	require.Len(t, rows, 3)
	require.Equal(t, []string{"hydrophone#2:test", "accuracy"}, []string{rows[0].On, rows[0].Measure})
	require.InDelta(t, 0.75, float64(rows[0].Groups[0].Mean), 1e-12)
	require.Equal(t, api.ComparedGroup{Mean: 0.95, Runs: 1, Alarmed: true}, rows[0].Groups[1])
	require.Equal(t, api.ComparedGroup{Mean: 0.8, Runs: 1}, rows[1].Groups[0], "of those that have it")
	require.Equal(t, "val", rows[2].On)
	require.True(t, math.IsNaN(float64(rows[2].Values[1])))
	labels := []api.RunGroup{{Label: "dropout 0.4"}, {Label: "no dropout"}}
	require.Equal(t, "On hydrophone#2:test the highest accuracy is 0.75, of dropout 0.4. 1 of 2 raise alarms, and do not count.",
		sayEvaluated(rows, labels))
	require.Equal(t, "On val the lowest rmse is 2, of no dropout.", sayEvaluated(rows[2:], labels))
	rows[0].Groups[0].Alarmed = true
	require.Equal(t, "No setting was evaluated on hydrophone#2:test without an alarm.", sayEvaluated(rows, labels))
	require.Empty(t, sayEvaluated(nil, labels))
}
