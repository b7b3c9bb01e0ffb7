package web_test

import (
	"archive/zip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/tensor"
)

func newEvaluation(at api.CheckpointInput, data string, figures map[string]api.Float) *api.NewEvaluation {
	in := &api.NewEvaluation{CheckpointInput: at, Key: uuid.NewString()}
	in.Body.Data, in.Body.Figures, in.Body.Host = data, map[string]api.Float{}, "hydra-2"
	maps.Copy(in.Body.Figures, figures)
	return in
}

// Figures are compared with what was recorded: exactly, or within a tolerance; where nothing is in common it is
// refused.
func TestVerification(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	at := s.keepWeights(t, leg, 10, tensor.Float64("w", []int64{1}, []float64{1}))
	tell := func(found, tolerance float64) *api.Verification {
		in := newEvaluation(at, "", map[string]api.Float{"loss.val": api.Float(found), "loss.test": 1})
		within := api.Float(tolerance)
		in.Body.Verify = &within
		return call(t, s, api.AddEvaluation, in).Verified
	}
	require.True(t, tell(0.25, 0).Same)
	v := tell(0.2501, 0)
	require.False(t, v.Same)
	require.Contains(t, v.Says, "not the same on hydra-2 at")
	require.Contains(t, v.Says, "loss.val 0.2501 ≠ 0.25")
	require.True(t, tell(0.2501, 0.001).Same)
	require.False(t, tell(math.NaN(), 0.001).Same)
	got := call(t, s, api.GetCheckpoint, &at)
	require.Len(t, got.Verified, 4)
	require.False(t, got.Verified[0].Same, "the latest first")
	other := newEvaluation(at, "", map[string]api.Float{"loss.test": 1})
	for within, says := range map[api.Float]string{0: "none of the figures reported (loss.test) was recorded",
		-1: "from 0 up"} {
		other.Body.Verify = &within
		refuse(t, s, api.AddEvaluation, other, api.Invalid, says)
	}
}

// An evaluation is of a checkpoint on a split; what its sheet gives stands before what the program said, and where the
// two differ that is an alarm of the sheet, not of the run.
func TestEvaluations(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	at := s.keepWeights(t, leg, 10, tensor.Float64("w", []int64{1}, []float64{1}))
	s.snapshot(t, append(honest(60), clipItem(900, "test"))...)
	own := call(t, s, api.AddSheet, s.newSheet(t, leg.RunInput, "test", 3, answers(t, 300, 1, honestly)))

	in := newEvaluation(at, "hydrophone#1:test", map[string]api.Float{"accuracy.test": 0.999, "pace": 3})
	in.Body.Command, in.Body.Notes = []string{"./harbour", "evaluate"}, []string{"as it should be"}
	first := call(t, s, api.AddEvaluation, in)
	require.Equal(t, []any{1, "hydrophone#1:test", "test", "vessels/1@e10"},
		[]any{first.Number, first.Data, first.Split, first.Checkpoint})
	in.Body.Notes = []string{"as it should be", "and another"}
	again := call(t, s, api.AddEvaluation, in)
	require.Equal(t, 1, again.Number, "the same key, the same evaluation")
	require.Equal(t, in.Body.Notes, again.Notes, "with notes that are new")

	sheet := s.newSheet(t, leg.RunInput, "test", 99, answers(t, 300, 1, honestly))
	sheet.Body.Of = 1
	added := call(t, s, api.AddSheet, sheet)
	require.Equal(t, []any{int64(10), "hydrophone#1:test", 1}, []any{added.Step, added.Data, added.Of},
		"its moment and data are the evaluation's")
	got := call(t, s, api.GetEvaluation, &api.EvaluationInput{RunInput: leg.RunInput, Evaluation: 1})
	require.Equal(t, "accuracy", got.Figures[0].Name)
	require.True(t, got.Figures[0].Computed)
	require.NotNil(t, got.Figures[0].Low)
	require.InDelta(t, added.Figures[0].Value, float64(got.Figures[0].Value), 1e-12)
	require.Contains(t, got.Says, "on hydrophone#1:test, 300 examples.")
	require.Equal(t, added.Number, got.Sheets[0].Number)

	require.NoError(t, s.service.CompareSome(context.Background()))
	got = call(t, s, api.GetEvaluation, &api.EvaluationInput{RunInput: leg.RunInput, Evaluation: 1})
	require.Equal(t, []string{string(assess.FigureDiffers)}, got.Sheets[0].Alarms)
	run := call(t, s, api.GetRun, &leg.RunInput)
	require.Empty(t, run.Alarms, "the run's own answers raise none")
	latest := call(t, s, api.GetSheet, &api.SheetInput{RunInput: leg.RunInput, Split: "test"})
	require.Equal(t, own.Number, latest.Number, "the training's own stands first")
	require.Len(t, latest.Over, 1, "what is on other data is not followed with it")

	wrong := s.newSheet(t, leg.RunInput, "val", 1, answers(t, 30, 1, honestly))
	wrong.Body.Of = 1
	refuse(t, s, api.AddSheet, wrong, api.Invalid, "the answers are on val, and test was evaluated")
	wrong.Body.Of = 9
	refuse(t, s, api.AddSheet, wrong, api.NotFound, "no evaluation 9")

	// The latest on some data is what the filter knows.
	call(t, s, api.AddEvaluation, newEvaluation(at, "test", map[string]api.Float{"accuracy.test": 0.5,
		"accuracy.val": 0.9}))
	for where, want := range map[string]int{
		`evaluated("hydrophone#1:test").accuracy < 0.99`: 1, `evaluated("hydrophone#1:test").accuracy > 0.99`: 0,
		`evaluated("test").accuracy == 0.5`: 1, `evaluated("test")["accuracy.val"] == 0.9`: 1,
		`evaluated("val").accuracy > 0`:            0,
		`has(evaluated("hydrophone#1:test").pace)`: 1, `has(evaluated("hydrophone#1:test").f1)`: 0} {
		page := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
			RunChoice: api.RunChoice{Where: where}})
		require.Len(t, page.Items, want, where)
	}
	page := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
		Columns: `evaluated("test").accuracy`})
	require.Equal(t, json.RawMessage("0.5"), page.Items[0].Values[0])

	all := &api.EvaluationsInput{RunInput: leg.RunInput, PageInput: api.PageInput{Limit: 1}}
	list := call(t, s, api.ListEvaluations, all)
	require.Equal(t, 2, list.Items[0].Number, "the latest first")
	all.Cursor = list.Next
	require.Equal(t, 1, call(t, s, api.ListEvaluations, all).Items[0].Number)
	all.Cursor, all.Limit, all.At, all.Data = "", 10, "last", "hydrophone#1:test"
	require.Len(t, call(t, s, api.ListEvaluations, all).Items, 1)

	for data, says := range map[string]string{"hydrophone#7:test": "there is no data hydrophone#7:test",
		"hydrophone#1:spare": "has no split spare", "quays#1": "there is no data"} {
		refuse(t, s, api.AddEvaluation, newEvaluation(at, data, nil), api.NotFound, says)
	}
	refuse(t, s, api.AddEvaluation, newEvaluation(at, "not an address", nil), api.Invalid, "no address of data")
	refuse(t, s, api.AddEvaluation, newEvaluation(at, "", map[string]api.Float{"a/b": 1}), api.Invalid, "curve name")
	refuse(t, s, api.GetEvaluation, &api.EvaluationInput{RunInput: leg.RunInput, Evaluation: 7}, api.NotFound,
		"evaluation 7")

	// Every look at a test split is counted, however it was looked at.
	ledger := call(t, s, api.GetSnapshot, &api.SnapshotInput{DatasetInput: api.DatasetInput{Dataset: "hydrophone"},
		Number: 1}).Ledger
	require.NotNil(t, ledger)
	require.EqualValues(t, 2, ledger.Looks)
	require.Equal(t, []string{"accuracy.test", "pace.test"}, []string{ledger.Curves[0].Curve, ledger.Curves[1].Curve})
	require.InDelta(t, added.Figures[0].Value, float64(ledger.Curves[0].Best), 1e-12, "what the answers give")
}

// A model that was trained on another snapshot's split has seen what that shares with the one it is evaluated on.
func TestEvaluatedOnWhatItWasTrainedOn(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	at := s.keepWeights(t, leg, 10, tensor.Float64("w", []int64{1}, []float64{1}))
	s.snapshot(t, honest(100)...)
	other := honest(100)
	for i := range other {
		other[i].Split = map[string]string{"train": "test", "val": "train"}[other[i].Split]
	}
	for i := range 5 {
		other[i].Split, other[i].Key, other[i].Group = "val", fmt.Sprint("renamed", i), "elsewhere" // by its bytes
	}
	other[40].Split = "val" // of a voyage that was validated on only
	s.snapshot(t, other...)
	in := batch(leg, 1, 1, "loss.val", 1)
	in.Body.Data = []api.DataUse{{Use: "train", Asked: "hydrophone#1:train"}, {Use: "val", Asked: "hydrophone#1:val"}}
	call(t, s, api.SendBatch, in)
	for data, want := range map[string]int64{"hydrophone#2:val": 5, "hydrophone#2:test": 75, "hydrophone#2:train": 0,
		"hydrophone#1:val": 0} {
		e := call(t, s, api.AddEvaluation, newEvaluation(at, data, nil))
		sheet := s.newSheet(t, leg.RunInput, e.Split, 1, answers(t, 300, 3, honestly))
		sheet.Body.Of = e.Number
		got := call(t, s, api.AddSheet, sheet)
		if want == 0 {
			require.Empty(t, got.Alarms, data)
			continue
		}
		require.Len(t, got.Alarms, 1, data)
		require.Equal(t, []any{assess.InTraining, want, "hydrophone#1:train"},
			[]any{got.Alarms[0].Kind, got.Alarms[0].Count, got.Alarms[0].Trained}, data)
		require.Contains(t, got.Alarms[0].Says, "on which it was trained")
	}

	// Documents of a comparison tell it.
	call(t, s, api.SendBatch, batch(s.leg(t), 1, 1, "loss.val", 2))
	for format, wants := range map[string][]string{
		"html": {"What did evaluations find?", "hydrophone#2:val", " !</td>"},
		"csv":  {`"evaluated(""hydrophone#2:val"").accuracy"`}} {
		_, content := s.raw(t, "GET", api.Base+"/projects/vessels/comparison/document?runs=1,2&format="+format, "",
			s.bearer()...)
		for _, want := range wants {
			require.Contains(t, content, want, format)
		}
	}
	_, content := s.raw(t, "GET", api.Base+"/projects/vessels/comparison/document?runs=1,2&format=markdown", "",
		s.bearer()...)
	z, err := zip.NewReader(strings.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	file, err := z.Open("comparison.md")
	require.NoError(t, err)
	text, err := io.ReadAll(file)
	require.NoError(t, err)
	require.Contains(t, string(text), "| hydrophone#2:val | accuracy |")
}
