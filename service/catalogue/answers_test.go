package catalogue

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/verdict"
)

func facts(loss float64, change func(f *api.EditionFacts)) *api.EditionFacts {
	f := &api.EditionFacts{Run: "vessels/1", Objective: api.Objective{Curve: "loss.val", Direction: verdict.Lower},
		Figures: map[string]api.Float{"loss.val": api.Float(loss)}, Data: map[string]string{"val": "hydrophone#2:val"},
		Hyper: map[string]json.RawMessage{"lr": json.RawMessage("0.01"), "hidden": json.RawMessage("48")}, Commit: "a1",
		Measured: map[string]map[string]api.Float{"hydrophone#2:test": {"accuracy": api.Float(1 - loss)}},
		Parts:    []string{"weights", "architecture", "preprocess"}}
	if change != nil {
		change(f)
	}
	return f
}

// Figures are compared where they are of the same data, which neither was trained on; what is not compared is said.
func TestBetterInWords(t *testing.T) {
	was := facts(0.5, nil)
	require.Equal(t, "Against #1, which is in use: loss.val 0.25 against 0.5 (-0.25, better); "+
		"accuracy on hydrophone#2:test 0.75 against 0.5 (+0.25, better).", sayBetter(facts(0.25, nil), was, 1))
	require.Contains(t, sayBetter(facts(0.75, nil), was, 1), "loss.val 0.75 against 0.5 (+0.25, worse)")
	require.Contains(t, sayBetter(was, was, 1), "(+0, the same)")
	other := facts(0.25, func(f *api.EditionFacts) {
		f.Data["val"], f.TrainedOn = "hydrophone#1:val", []string{"hydrophone#2:test"}
	})
	require.Equal(t, "No figure is known of both it and #1, which is in use: evaluate both on the same data "+
		"(kembrel evaluate). Not compared: their loss.val is of different data; it has seen examples of hydrophone#2:test "+
		"in training.", sayBetter(other, was, 1))
	require.Contains(t, sayBetter(was, other, 3), "#3 has seen examples of hydrophone#2:test in training")
	none := facts(0.1, func(f *api.EditionFacts) { f.Figures, f.Measured = nil, nil })
	require.Contains(t, sayBetter(none, was, 1), "No figure is known of both")
}

func TestChangesInWords(t *testing.T) {
	was := facts(0.5, nil)
	require.Equal(t, "Against #1: another checkpoint of the same run, vessels/1.", sayChanges(facts(0.1, nil), was, 1))
	require.Equal(t, "Against #1: data: val none (was hydrophone#2:val); hyperparameters: hidden none (was 48), "+
		"lr 0.02 (was 0.01); code: none (was a1).", sayChanges(facts(0.1, func(f *api.EditionFacts) {
		f.Run, f.Commit, f.Data = "vessels/2", "", nil
		f.Hyper = map[string]json.RawMessage{"lr": json.RawMessage("0.02")}
	}), was, 1))
	require.Equal(t, "Against #1 nothing that is known: the same data, hyperparameters and code.",
		sayChanges(facts(0.1, func(f *api.EditionFacts) { f.Run = "vessels/2" }), was, 1))
}

func TestWarnings(t *testing.T) {
	require.Empty(t, warn(facts(1, nil)))
	dirty := false
	require.Len(t, warn(facts(1, func(f *api.EditionFacts) { f.Parts, f.Clean = []string{"weights"}, &dirty })), 3)
}

func TestAskingsInWords(t *testing.T) {
	ended := time.Date(2026, 11, 29, 12, 30, 0, 0, time.UTC)
	for want, a := range map[string]api.Asking{
		"to be in use it waits for the check verified, the check every class, which failed, 1 more sign-off.": {
			Standing: "in-use", Lacks: []catalogue.Lack{{Kind: catalogue.LacksCheck, Name: "verified"},
				{Kind: catalogue.FailedCheck, Name: "every class"}, {Kind: catalogue.LacksSigns, Have: 1, Need: 2}}},
		"it became in use on 29 November 2026 12:30 UTC.": {Standing: "in-use", Outcome: "taken", Ended: &ended},
		"Ruth took back on 29 November 2026 12:30 UTC that it was asked to be fallback: deaf.": {Standing: "fallback",
			Outcome: "withdrawn", Ended: &ended, Ender: "Ruth", Because: "deaf."},
	} {
		require.Equal(t, want, sayAsking(&a))
	}
}

func TestModelsInWords(t *testing.T) {
	m := &api.Model{}
	require.Equal(t, api.ModelSays{InUse: "Nothing: it has no edition yet.", Where: "Nobody has said that they use it."},
		sayModel(m))
	m.Editions = 3
	require.Equal(t, "Nothing: of its 3 editions none has a standing.", sayModel(m).InUse)
	m.Consumers = []api.Consumer{{Where: "harbour-north"}}
	require.Equal(t, "1 place uses what is in use.", sayModel(m).Where)
	m.Consumers = append(m.Consumers, api.Consumer{Behind: 2}, api.Consumer{Behind: -1})
	require.Equal(t, "Of 3 places 1 is out of date, 1 has an edition that was never in use.", sayModel(m).Where)
	require.Equal(t, "No check has been reported.", sayChecks(nil))
	require.Equal(t, "1 of 2 passed; failed: every class.",
		sayChecks([]api.EditionCheck{{Name: "verified", Passed: true}, {Name: "every class"}}))
}

// What a model is to have is refused where it cannot be.
func TestRulesOfStandings(t *testing.T) {
	require.NoError(t, checkRules([]catalogue.Rule{{Name: "in-use", Approvers: 2, Checks: []string{"every class"}}}))
	for want, rules := range map[string][]catalogue.Rule{"cannot be called": {{Name: "In use"}},
		"there by itself": {{Name: "proposed"}}, "two standings": {{Name: "a"}, {Name: "a"}},
		"a check cannot be called": {{Name: "a", Checks: []string{"b\x07"}}}} {
		require.ErrorContains(t, checkRules(rules), want)
	}
	require.Equal(t, "in-use (2 sign-offs) after every class; fallback",
		sayRules([]catalogue.Rule{{Name: "in-use", Approvers: 2, Checks: []string{"every class"}}, {Name: "fallback"}}))
}
