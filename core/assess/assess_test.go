package assess_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/assess"
	"kembrel/core/assess/between"
	"kembrel/core/sheet"
)

var vessels = []string{"tug", "ferry", "trawler", "dredger", "cargo ship", "motor sailer"}

// made is a model that answers n examples of some classes; the logits of an example are noise and what boost adds.
func made(seed uint64, n int, classes []string, boost func(i, t int, z []float64)) *sheet.Sheet {
	rng := rand.New(rand.NewPCG(seed, 9))
	k := len(classes)
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Classes, Classes: classes}}
	for i := range n {
		t := i % k
		z := make([]float64, k)
		for c := range z {
			z[c] = rng.NormFloat64()
		}
		boost(i, t, z)
		sum, best := 0.0, 0
		for c := range z {
			if z[c] > z[best] {
				best = c
			}
			sum += math.Exp(z[c])
		}
		for c := range z {
			s.Scores = append(s.Scores, math.Exp(z[c])/sum)
		}
		s.Keys = append(s.Keys, fmt.Sprintf("val/v%d/clip-%d", i/8, i%8))
		s.Groups = append(s.Groups, fmt.Sprintf("v%d", i/8))
		s.True, s.Predicted = append(s.True, int32(t)), append(s.Predicted, int32(best))
	}
	return s
}

// Figures are what another program computes for the same answers: numpy, by the formulas, written down in
// testdata/figures.py.
func TestFiguresAgainstAnotherProgram(t *testing.T) {
	python, err := exec.LookPath("/usr/bin/python3")
	require.NoError(t, err, "make setup-python installs it")
	for name, s := range map[string]*sheet.Sheet{
		"usual":      made(1, 600, vessels, func(_, t int, z []float64) { z[t] += 1.5 }),
		"two":        made(2, 300, vessels[:2], func(_, t int, z []float64) { z[t]++ }),
		"ties":       tied(made(3, 200, vessels[:3], func(_, t int, z []float64) { z[t]++ })),
		"no example": without(made(4, 240, vessels, func(_, t int, z []float64) { z[t] += 2 }), 2),
	} {
		t.Run(name, func(t *testing.T) {
			a := assess.Of(s)
			in, err := json.Marshal(map[string]any{"k": len(s.Classes), "true": s.True, "predicted": s.Predicted,
				"scores": s.Scores})
			require.NoError(t, err)
			cmd := exec.Command(python, "testdata/figures.py")
			cmd.Stdin, cmd.Stderr = strings.NewReader(string(in)), os.Stderr
			out, err := cmd.Output()
			require.NoError(t, err)
			var want struct {
				Figures   map[string]float64
				Recall    []*float64
				Precision []*float64
				Area      []*float64
				Average   []*float64
			}
			require.NoError(t, json.Unmarshal(out, &want))
			require.GreaterOrEqual(t, len(want.Figures), 7)
			for figure, v := range want.Figures {
				got, ok := a.Figure(figure)
				require.True(t, ok, figure)
				require.InDelta(t, v, got.Value, 1e-6, figure)
				if got.Low != nil {
					require.True(t, *got.Low <= got.Value+1e-9 && got.Value-1e-9 <= *got.High ||
						figure == "Brier score" ||
						figure == "log loss", "%s: %v is not within %v to %v", figure, got.Value, *got.Low, *got.High)
				}
			}
			for c, class := range a.Classes {
				same := func(what string, want, got *float64) {
					require.Equal(t, want == nil, got == nil, "%s of %s", what, class.Name)
					if want != nil {
						require.InDelta(t, *want, *got, 1e-6, "%s of %s", what, class.Name)
					}
				}
				value := func(v *assess.Interval) *float64 {
					if v == nil {
						return nil
					}
					return &v.Value
				}
				same("recall", want.Recall[c], value(class.Recall))
				same("precision", want.Precision[c], value(class.Precision))
				same("area", want.Area[c], class.Area)
				same("average precision", want.Average[c], class.Average)
			}
		})
	}
}

// tied rounds scores so that many are the same, answers staying as they are.
func tied(s *sheet.Sheet) *sheet.Sheet {
	for i, v := range s.Scores {
		s.Scores[i] = math.Round(v*10) / 10
	}
	return s
}

// without takes the labels of a class away.
func without(s *sheet.Sheet, class int32) *sheet.Sheet {
	for i := range s.True {
		if s.True[i] == class {
			s.True[i] = sheet.None
		}
	}
	return s
}

// Published values: Wilson's interval of 81 of 263 (Newcombe 1998, table I), McNemar's test and the interval of a
// difference of paired shares (Newcombe 1998, paired, table II, 36 12 2 0).
func TestIntervals(t *testing.T) {
	w := assess.Wilson(81, 263)
	require.InDelta(t, 0.2553, *w.Low, 5e-5)
	require.InDelta(t, 0.3662, *w.High, 5e-5)
	require.Nil(t, assess.Wilson(0, 0))
	none, all := assess.Wilson(0, 20), assess.Wilson(20, 20)
	require.Zero(t, *none.Low)
	require.InDelta(t, 0.1611, *none.High, 5e-5)
	require.Equal(t, 1.0, *all.High)

	d, ok := between.Differ(36, 12, 2, 0)
	require.True(t, ok)
	require.InDelta(t, 0.2, d.Difference.Value, 1e-12)
	require.InDelta(t, 0.0569, *d.Difference.Low, 5e-4)
	require.InDelta(t, 0.3404, *d.Difference.High, 5e-4)
	require.InDelta(t, 0.0129, d.P, 5e-5)
	d, _ = between.Differ(10, 5, 5, 0)
	require.Equal(t, 1.0, d.P)
	_, ok = between.Differ(0, 0, 0, 0)
	require.False(t, ok)
}

// Degenerate sheets give what can be said of them, and always JSON.
func TestDegenerate(t *testing.T) {
	nan := math.NaN()
	for name, s := range map[string]*sheet.Sheet{
		"one class": {Says: sheet.Says{Task: sheet.Classes, Classes: []string{"tug"}}, Keys: []string{"a", "b"},
			True: []int32{0, 0}, Predicted: []int32{0, 0}, Scores: []float64{1, 1}},
		"one example": {Says: sheet.Says{Task: sheet.Classes, Classes: vessels[:2]}, Keys: []string{"a"},
			True: []int32{0}, Predicted: []int32{1}, Scores: []float64{0.4, 0.6}},
		"no label": {Says: sheet.Says{Task: sheet.Classes, Classes: vessels[:2]}, Keys: []string{"a", "b"},
			True: []int32{-1, -1}, Predicted: []int32{1, 0}},
		"no answer": {Says: sheet.Says{Task: sheet.Classes, Classes: vessels[:2]}, Keys: []string{"a", "b"},
			True: []int32{0, 1}, Predicted: []int32{-1, -1}, Scores: []float64{nan, nan, nan, nan}},
		"not a number": {Says: sheet.Says{Task: sheet.Classes, Classes: vessels[:2]}, Keys: []string{"a", "b"},
			True: []int32{0, 1}, Predicted: []int32{0, 1}, Scores: []float64{nan, 1, 0.5, 0.5}},
		"two numbers": {Says: sheet.Says{Task: sheet.Number}, Keys: []string{"a", "b"}, Target: []float64{0.5, 1.5},
			Value: []float64{0.4, math.NaN()}},
		"the same number": {Says: sheet.Says{Task: sheet.Number}, Keys: []string{"a", "b"}, Target: []float64{2, 2},
			Value: []float64{1e300, -1e300}},
		"no number": {Says: sheet.Says{Task: sheet.Number}, Keys: []string{"a"}, Target: []float64{math.NaN()},
			Value: []float64{math.NaN()}},
	} {
		t.Run(name, func(t *testing.T) {
			a := assess.Of(s)
			_, err := json.Marshal(a)
			require.NoError(t, err)
			_, err = json.Marshal(a.Alarms(s))
			require.NoError(t, err)
			if s.Task == sheet.Classes {
				assess.Suspects(s)
				assess.Sures(s)
				_, err = json.Marshal(assess.Cutoffs(s, 0))
				require.NoError(t, err)
			}
		})
	}
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Number}, Keys: []string{"a", "b", "c", "d"},
		Target: []float64{1, 2, 3, math.NaN()}, Value: []float64{1.5, 2, 2, 9}}
	a := assess.Of(s)
	for name, want := range map[string]float64{"mean absolute error": 0.5,
		"root mean squared error": math.Sqrt(1.25 / 3),
		"R2":                      1 - 1.25/2, "mean error": -0.5 / 3} {
		got, ok := a.Figure(name)
		require.True(t, ok, name)
		require.InDelta(t, want, got.Value, 1e-12, name)
	}
}

// A cutoff of the score says what answering from there on comes to; all cutoffs together are the whole curve.
func TestCutoffs(t *testing.T) {
	s := made(5, 400, vessels[:3], func(_, t int, z []float64) { z[t] += 1.2 })
	table := assess.Cutoffs(s, 1)
	require.LessOrEqual(t, len(table), 101)
	last := table[len(table)-1]
	require.EqualValues(t, 400, last.Answered)
	require.Equal(t, 1.0, *last.Recall)
	require.Equal(t, 1.0, *last.False)
	for _, c := range table {
		answered, right := int64(0), int64(0)
		for i := range s.Len() {
			if float64(s.Row(i)[1]) >= c.At {
				answered++
				if s.True[i] == 1 {
					right++
				}
			}
		}
		require.Equal(t, answered, c.Answered, "at %v", c.At)
		require.Equal(t, right, c.Right)
	}
	sure := assess.Sures(s)
	require.EqualValues(t, 400, sure[0].Answered)
	require.Less(t, sure[90].Answered, sure[40].Answered)
	require.Greater(t, sure[80].Accuracy.Value, sure[0].Accuracy.Value)
}

// The best assignment is what trying all of them finds.
func TestAssign(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	for range 200 {
		n := 1 + rng.IntN(6)
		gain := make([][]float64, n)
		for i := range gain {
			gain[i] = make([]float64, n)
			for j := range gain[i] {
				gain[i][j] = float64(rng.IntN(20))
			}
		}
		best := -1.0
		var try func(i int, used int, sum float64)
		try = func(i int, used int, sum float64) {
			if i == n {
				best = max(best, sum)
				return
			}
			for j := range n {
				if used&(1<<j) == 0 {
					try(i+1, used|1<<j, sum+gain[i][j])
				}
			}
		}
		try(0, 0, 0)
		sum, seen := 0.0, map[int]bool{}
		for i, j := range assess.Assign(gain) {
			sum += gain[i][j]
			seen[j] = true
		}
		require.Len(t, seen, n)
		require.Equal(t, best, sum)
	}
}
