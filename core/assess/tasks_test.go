package assess_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// values are the figures of a sheet by name.
func values(a *assess.Assessment) map[string]float64 {
	out := map[string]float64{}
	for _, f := range a.Figures {
		out[f.Name] = f.Value
	}
	return out
}

func near(t *testing.T, want map[string]float64, a *assess.Assessment) {
	t.Helper()
	got := values(a)
	require.Len(t, got, len(want))
	for name, v := range want {
		require.InDelta(t, v, got[name], 1e-9, name)
	}
}

// Four examples of three classes, counted by hand: true {tug, ferry}, {}, {tug}, {dredger}; answered {tug}, {ferry},
// {tug}, {}. Decisions: 12, of which ferry missed, ferry added, dredger missed.
func TestSeveralLabelsByHand(t *testing.T) {
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Labels, Classes: []string{"dredger", "ferry", "tug"}},
		Keys:       []string{"a", "b", "c", "d", "e"},
		TrueSets:   [][]int32{{1, 2}, {}, {2}, {0}, nil},
		AnswerSets: [][]int32{{2}, {1}, {2}, {}, {0}}}
	a := assess.Of(s)
	near(t, map[string]float64{"exact match": 0.25, "Jaccard, mean of examples": (0.5 + 0 + 1 + 0) / 4,
		"F1, of all labels": 2.0 * 2 / (4 + 3), "F1, mean of classes": (0 + 0 + 1.0) / 3,
		"recall, of all labels": 2.0 / 4, "precision, of all labels": 2.0 / 3, "Hamming loss": 3.0 / 12}, a)
	require.EqualValues(t, []int64{5, 4, 1}, []int64{a.Examples, a.Labelled, a.Right})
	require.Equal(t, []assess.Cell{{True: -1, Predicted: 1, Count: 1}, {True: 0, Predicted: -1, Count: 1},
		{True: 1, Predicted: -1, Count: 1}, {True: 2, Predicted: 2, Count: 2}}, a.Cells)
	tug := a.Classes[2]
	require.Equal(t, []int64{2, 2, 2}, []int64{tug.True, tug.Predicted, tug.Right})
	require.Equal(t, 1.0, tug.Recall.Value)
	require.Nil(t, a.Classes[0].Precision, "no labelled answer names it")
	require.NotNil(t, a.Classes[0].F1)
	f, _ := a.Figure("exact match")
	require.InDelta(t, 0.0456, *f.Low, 1e-4, "Wilson's")

	none := assess.Of(&sheet.Sheet{Says: s.Says, Keys: []string{"a"}, TrueSets: [][]int32{nil},
		AnswerSets: [][]int32{{1}}})
	require.Empty(t, none.Figures)
	empty := assess.Of(&sheet.Sheet{Says: s.Says, Keys: []string{"a"}, TrueSets: [][]int32{{}},
		AnswerSets: [][]int32{{}}})
	require.Equal(t, 1.0, values(empty)["Jaccard, mean of examples"], "nothing to say, nothing said")
	require.NotContains(t, values(empty), "F1, of all labels", "not defined")
}

// Scores of several labels are each by itself, so they need not sum to 1.
func TestScoresOfSeveralLabels(t *testing.T) {
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Labels, Classes: []string{"ferry", "tug"}}, Keys: []string{"a", "b",
		"c"},
		TrueSets: [][]int32{{0, 1}, {1}, {0}}, AnswerSets: [][]int32{{0, 1}, {1}, {}},
		Scores: []float64{0.9, 0.8, 0.1, 0.7, 0.4, 0.3}}
	a := assess.Of(s)
	require.Equal(t, "probabilities", a.Scores)
	require.Zero(t, a.Unsummed)
	require.Empty(t, a.Alarms(s))
	require.InDelta(t, 1, *a.Classes[0].Average, 1e-9, "0.9 and 0.4 are above 0.1")
	require.InDelta(t, 1, values(a)["average precision, mean of classes"], 1e-9)
	cutoffs := assess.Cutoffs(s, 1)
	require.Equal(t, 1.0, *cutoffs[1].Recall, "0.8 and 0.7")
	s.Scores[0] = 1.5
	a = assess.Of(s)
	require.EqualValues(t, 0, a.Outside, "one of three is no probability: they are taken for scores")
	require.Equal(t, "scores", a.Scores)
}

func TestTextsByHand(t *testing.T) {
	text := func(s string) *string { return &s }
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Text}, Keys: []string{"a", "b", "c", "d"},
		TrueTexts:   []*string{text("wind north"), text("fog"), text("calm sea"), nil},
		AnswerTexts: []*string{text("wind forth"), text("fog"), nil, text("gale")}}
	a := assess.Of(s)
	near(t, map[string]float64{"exact match": 1.0 / 3, "character error rate": (1.0 + 0 + 8) / (10 + 3 + 8),
		"word error rate": (1.0 + 0 + 2) / (2 + 1 + 2)}, a)
	require.Equal(t, "character_error_rate", a.Figures[1].Measure())
	require.True(t, a.Figures[1].Lower)
	require.Empty(t, a.Alarms(s))
}

// Two pictures of water (0), hull (1) and quay (2), counted by hand.
func TestMasksByHand(t *testing.T) {
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Masks, Classes: []string{"water", "hull", "quay", "buoy"}},
		Keys: []string{"a", "b"}, TrueSets: make([][]int32, 2), AnswerSets: make([][]int32, 2),
		Pixels: [][]sheet.PixelCount{{{True: 0, Answer: 0, Count: 50}, {True: 1, Answer: 0, Count: 10}, {True: 1,
			Answer: 1, Count: 30}},
			{{True: 0, Answer: 0, Count: 80}, {True: 2, Answer: 0, Count: 15}, {True: 2, Answer: sheet.None,
				Count: 5}}}}
	a := assess.Of(s)
	water, hull := 130.0/155, 30.0/40
	near(t, map[string]float64{"IoU, mean of classes": (water + hull + 0) / 3,
		"Dice, mean of classes": (2*130.0/(130+155) + 2*30.0/(40+30) + 0) / 3, "pixel accuracy": 160.0 / 190}, a)
	require.EqualValues(t, 190, a.Pixels)
	require.InDelta(t, water, *a.Classes[0].IoU, 1e-12)
	require.Nil(t, a.Classes[3].IoU, "neither true nor answered")
	require.Nil(t, a.Classes[0].Recall.Low, "pixels are not independent")
	alarms := a.Alarms(s)
	require.Len(t, alarms, 1)
	require.Equal(t, []any{assess.NeverAnswered, "quay", int64(20), int64(190)},
		[]any{alarms[0].Kind, alarms[0].Class, alarms[0].Count, alarms[0].Of})
}

// Models of several labels that fail in one way raise that alarm, and a hundred honest ones raise none.
func TestAlarmsOfSeveralLabels(t *testing.T) {
	model := func(seed uint64, lost int32) *sheet.Sheet {
		random := rand.New(rand.NewPCG(seed, 3))
		s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Labels, Classes: vessels}}
		for i := range 300 {
			truth, answer := []int32{}, []int32{}
			for c := range int32(len(vessels)) {
				is := random.IntN(4) == 0
				if is {
					truth = append(truth, c)
				}
				if is != (random.IntN(5) == 0) && c != lost {
					answer = append(answer, c)
				}
			}
			s.Keys = append(s.Keys, fmt.Sprint(i))
			s.TrueSets, s.AnswerSets = append(s.TrueSets, truth), append(s.AnswerSets, answer)
		}
		return s
	}
	for seed := range uint64(100) {
		s := model(seed, 2)
		alarms := assess.Of(s).Alarms(s)
		require.Equal(t, []assess.AlarmKind{assess.NeverAnswered}, kindsOf(alarms))
		require.Equal(t, vessels[2], alarms[0].Class)
		s = model(seed, sheet.None)
		require.Empty(t, assess.Of(s).Alarms(s))
	}
}

// Masks that are nothing but what is left out have no figures, and are no fault.
func TestMasksOfNothing(t *testing.T) {
	s := &sheet.Sheet{Says: sheet.Says{Task: sheet.Masks, Classes: []string{"water"}}, Keys: []string{"a"},
		TrueSets: [][]int32{{}}, AnswerSets: [][]int32{{}}, Pixels: [][]sheet.PixelCount{{}}}
	a := assess.Of(s)
	require.Empty(t, a.Figures)
	require.EqualValues(t, 1, a.Labelled)
}
