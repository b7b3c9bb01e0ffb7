package web_test

import (
	"encoding/json"
	"fmt"
	"strconv"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/catalogue"
)

// ended is a run of a setting that ended with this loss, with a checkpoint.
func (s *served) ended(t *testing.T, hyper string, seed int, loss float64) string {
	t.Helper()
	in := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	in.Body.Hyper = map[string]json.RawMessage{"lr": json.RawMessage(hyper), "layers": json.RawMessage("[12, 6]"),
		"seed": json.RawMessage(strconv.Itoa(seed)), "net": json.RawMessage(`"dense \"two\""`)}
	in.Body.Started = time.Now().Add(-time.Minute)
	run := call(t, s, api.BeginRun, in)
	open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: vessels, Number: run.Number}, Key: uuid.NewString()}
	open.Body.Recorder, open.Body.Started = uuid.NewString(), in.Body.Started
	leg := api.LegInput{RunInput: open.RunInput, Leg: call(t, s, api.OpenLeg, open).Leg, Recorder: open.Body.Recorder}
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", loss))
	content := noise(1000, byte(run.Number))
	s.put(t, content)
	kept := manifest(leg, 1, map[string][]byte{"own": content})
	kept.Body.Figures = map[string]api.Float{"loss.val": api.Float(loss)}
	call(t, s, api.CommitCheckpoint, kept)
	end := &api.EndInput{LegInput: leg}
	end.Body.State = "finished"
	call(t, s, api.EndLeg, end)
	return fmt.Sprintf("vessels/%d", run.Number)
}

func ruleOf(r catalogue.Entering) *api.NewRule { return &api.NewRule{ModelInput: classifier, Body: r} }

// lookAgain lets time pass over the rules and returns what they made of runs, by run.
func (s *served) lookAgain(t *testing.T) map[string]api.RuleRun {
	t.Helper()
	require.NoError(t, s.service.EnterByRules(ctx))
	out := map[string]api.RuleRun{}
	for _, r := range call(t, s, api.ListRules, &classifier).Items {
		for _, d := range r.Did {
			out[d.Run] = d
		}
	}
	return out
}

// Runs enter a model by a rule where they are better than the edition in use beyond the noise between seeds, in the
// name of whoever made it; before it is made it shows what it would have done.
func TestRunsEnterByRule(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.model(t, catalogue.Rule{Name: "in-use", Approvers: 1})
	for seed, loss := range []float64{0.30, 0.31, 0.29} {
		s.ended(t, "0.01", seed, loss)
	}
	s.enter(t, "vessels/1@best")
	asked := call(t, s, api.AskFor, askFor("in-use", 1))
	ruth := s.as(t, "ruth", map[string]string{"vessels": "approver"})
	call(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 1))
	tried := call(t, s, api.TryRule, ruleOf(catalogue.Entering{Checkpoint: "best"}))
	require.Len(t, tried.Runs, 3)
	require.Equal(t, catalogue.Enters, tried.Runs[0].Fate, "none was in use when it ended")
	require.Equal(t, catalogue.AnotherBetter, tried.Runs[1].Fate)
	require.Contains(t, tried.Says, "Of 3 runs that ended, 2 would have entered")

	made := call(t, s, api.AddRule, ruleOf(catalogue.Entering{Checkpoint: "best", Ask: "in-use",
		Where: `hyper.lr > 0.001`}))
	require.Equal(t, 1, made.Number)
	require.Empty(t, s.lookAgain(t), "what ended before it was made is left alone")
	worse, near := s.ended(t, "0.02", 1, 0.5), s.ended(t, "0.02", 2, 0.285)
	better, other := s.ended(t, "0.03", 1, 0.1), s.ended(t, "0.0001", 1, 0.1)
	did := s.lookAgain(t)
	require.Equal(t, catalogue.NotBetter, did[worse].Fate)
	require.Equal(t, catalogue.WithinNoise, did[near].Fate)
	require.Equal(t, 3, did[near].Seeds)
	require.NotContains(t, did, other, "it does not fulfil the filter")
	require.Equal(t, catalogue.Enters, did[better].Fate)
	require.Equal(t, 2, did[better].Edition)
	m := call(t, s, api.GetModel, &classifier)
	require.Equal(t, 2, m.Waiting[0].Edition)
	require.Equal(t, "Ines", m.Waiting[0].Who, "whoever made the rule asks, and so does not sign off")
	require.Contains(t, m.Latest[0].Why, "By rule 1. Enters: loss.val 0.1 against 0.3 of #1 in use, better by 0.2")

	again := s.ended(t, "0.03", 2, 0.12)
	best := s.ended(t, "0.03", 3, 0.05)
	did = s.lookAgain(t)
	require.Equal(t, catalogue.AnotherBetter, did[again].Fate)
	require.Equal(t, 3, did[best].Edition)
	m = call(t, s, api.GetModel, &classifier)
	require.Equal(t, 3, m.Waiting[0].Edition, "it takes the place of what the rule had asked for")
	require.Equal(t, 3, m.Editions)
	for range 3 {
		require.Equal(t, did, s.lookAgain(t), "looking again changes nothing")
	}
	margin := 0.01
	// what fulfils the filter later is looked at then, by another rule also where the first let it be
	call(t, s, api.AddRule, ruleOf(catalogue.Entering{Checkpoint: "last", Where: `"heard" in tags`, Each: true,
		Margin: &margin}))
	late := s.ended(t, "0.0001", 4, 0.2)
	require.NotContains(t, s.lookAgain(t), late)
	tag := &api.RunEdit{RunInput: api.RunInput{ProjectInput: vessels, Number: 10}}
	require.Equal(t, "vessels/10", late)
	tag.Body.Tags = &[]string{"heard"}
	call(t, s, api.ChangeRun, tag)
	require.Equal(t, 4, s.lookAgain(t)[late].Edition, "each that is better than the edition in use")
	call(t, s, api.ClearRule, &api.RuleOfModel{ModelInput: classifier, Rule: 1})
	require.Len(t, call(t, s, api.ListRules, &classifier).Items, 1)
	refuse(t, s, api.ClearRule, &api.RuleOfModel{ModelInput: classifier, Rule: 1}, api.NotFound, "has no rule 1")
}

// A rule acts with the rights of whoever made it, and only as long as they have them; what is wrong with it is seen on
// it, and keeps no other rule from working.
func TestTroubleOfRules(t *testing.T) {
	s, _ := catalogued(t)
	margin := -1.0
	for says, r := range map[string]catalogue.Entering{
		"has no standing": {Checkpoint: "best", Ask: "outside"}, "column 5": {Checkpoint: "best", Where: "lr <"},
		"colour": {Checkpoint: "best", Where: "colour == 3"}, "margin": {Checkpoint: "best", Margin: &margin},
		"checkpoint": {Checkpoint: "middle"},
	} {
		refuse(t, s, api.AddRule, ruleOf(r), api.Invalid, says)
		refuse(t, s, api.TryRule, ruleOf(r), api.Invalid, says)
	}
	teo := s.as(t, "olga", map[string]string{"vessels": "owner"})
	call(t, teo, api.AddRule, ruleOf(catalogue.Entering{Checkpoint: "best"}))
	call(t, s, api.AddRule, ruleOf(catalogue.Entering{Checkpoint: "best", Where: "epoch >= 0"}))
	_, err := s.db.Pool.Exec(ctx, `update given_role set role = 'reader' where person = (select id from person where name = 'olga')`)
	require.NoError(t, err)
	s.service.ForgetPlaces()
	run := s.ended(t, "0.01", 1, 0.1)
	require.Equal(t, catalogue.Enters, s.lookAgain(t)[run].Fate, "the second rule works")
	rules := call(t, s, api.ListRules, &classifier).Items
	require.Equal(t, api.TroubleAuthor, rules[0].Trouble)
	require.Contains(t, rules[0].Idle, "may not enter editions any more")
	require.Empty(t, rules[1].Idle)
	require.Empty(t, rules[0].Did)
	require.Empty(t, rules[1].Trouble)
	_, err = s.db.Pool.Exec(ctx, `update entering set filter = 'colour == 3', heard = now() where number = 2`)
	require.NoError(t, err)
	s.lookAgain(t)
	require.Equal(t, api.TroubleFilter, call(t, s, api.ListRules, &classifier).Items[1].Trouble)
	// a run that ends again is judged again
	_, err = s.db.Pool.Exec(ctx, `update entering set filter = '', heard = now() where number = 2`)
	require.NoError(t, err)
	_, err = s.db.Pool.Exec(ctx, `update run set ended = $1 where number = 2`, time.Now())
	require.NoError(t, err)
	require.Equal(t, catalogue.InAlready, s.lookAgain(t)[run].Fate)
}
