package pages

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// at makes a run's page of a leg or more.
func at(state string, legs ...api.Leg) *api.RunDetail {
	r := &api.RunDetail{Legs: legs}
	r.State = state
	return r
}

func TestWhatHappened(t *testing.T) {
	noon := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	bad, fine := 3, 0
	ended := func(leg api.Leg) api.Leg { leg.Ended = &noon; return leg }
	took := func(r *api.RunDetail, seconds float64) *api.RunDetail { r.Took = seconds; return r }
	for name, c := range map[string]struct {
		run  *api.RunDetail
		want string
	}{
		"announced": {at("running"), "The run was announced; no process has begun it yet."},
		"running":   {at("running", api.Leg{}), "Running."},
		"lost":      {at("lost", api.Leg{Seen: noon}), "Lost: no sign of life since 2026-11-29 12:00:00 UTC."},
		"finished":  {took(at("finished", ended(api.Leg{ExitCode: &fine})), 4.26), "Finished after 4.3s."},
		"long":      {took(at("finished", ended(api.Leg{})), 3725.4), "Finished after 1h2m5s."},
		"failed":    {took(at("failed", ended(api.Leg{ExitCode: &bad})), 60), "Failed after 1m0s, exit code 3."},
		"killed": {took(at("failed", ended(api.Leg{Signal: "SIGKILL", ExitCode: &bad})), 60),
			"Failed after 1m0s, ended by SIGKILL."},
		"stopped, and why": {took(at("stopped", ended(api.Leg{Why: "No better for 5 epochs."})), 60),
			"Stopped after 1m0s. No better for 5 epochs."},
		"resumed without a part": {took(at("finished", api.Leg{Number: 1}, ended(api.Leg{Number: 2,
			Resumed: &api.Resumed{From: "vessels/3@e9", Lacks: []string{"random", "schedule"}}})), 60),
			"Finished after 1m0s. 2 legs. Leg 2 went on from vessels/3@e9 without its random, schedule."},
	} {
		require.Equal(t, c.want, sayHappened(c.run), name)
	}
	r := at("running", api.Leg{})
	r.Curves = []api.CurveInfo{{Name: "loss.val", Highest: &api.Figure{Value: 9}},
		{Name: "host.cpu", Highest: &api.Figure{Value: 0.914}},
		{Name: "host.gpu1.use", Highest: &api.Figure{Value: 0.5}},
		{Name: "host.gpu1.memory", Highest: &api.Figure{Value: 0.5}}, {Name: "host.memory.share"},
		{Name: "host.program.memory", Highest: &api.Figure{Value: 3e6}}}
	r.Repeats = &api.Repeats{Says: "It gave the same."}
	require.Equal(t, "Running. It gave the same. At most 91 % of the CPU, 50 % of GPU 1, "+api.Bytes(3e6)+
		" by the program.", sayHappened(r))
}

func TestWhatWentIn(t *testing.T) {
	r, clean := at("finished"), false
	require.Equal(t, "No seed was recorded, so nobody can repeat this run exactly. The code was under no version control.",
		sayWentIn(r))
	r.Hyper = map[string]json.RawMessage{"seed": json.RawMessage("17")}
	r.Recipe.Commit = "c0ffee"
	require.Equal(t, "Seed 17. The code was as committed.", sayWentIn(r))
	r.Recipe.Clean = &clean
	r.Start = &api.Start{Says: "Its weights are those of vessels/4@e30."}
	r.Origin = &api.Origin{Kind: "branch", From: "vessels/4@e30", Parts: []string{"weights"},
		Asked: map[string]json.RawMessage{"lr": json.RawMessage("0.01"), "batch": json.RawMessage("32")}}
	require.Equal(t, "Seed 17. It branched from vessels/4@e30 with its weights, asked for batch = 32, lr = 0.01. "+
		"Its weights are those of vessels/4@e30. The code had uncommitted changes.", sayWentIn(r))
	require.Equal(t, "It repeats vessels/2.", sayOrigin(&api.Origin{Kind: "rerun", From: "vessels/2"}))
}

func TestWhatCameOut(t *testing.T) {
	require.Equal(t, "No checkpoint was saved.", sayCameOut(0, 0))
	require.Equal(t, "1 checkpoint, "+api.Bytes(2048)+".", sayCameOut(1, 2048))
	require.Equal(t, "12 checkpoints, "+api.Bytes(5e9)+".", sayCameOut(12, 5e9))
}

// An end is expected only of a run that runs, announced its epochs and has a pace.
func TestExpectedEnd(t *testing.T) {
	noon := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	fresh := func() *api.RunDetail {
		r := at("running", api.Leg{Seen: noon})
		r.Hyper = map[string]json.RawMessage{"epochs": json.RawMessage("20")}
		r.Epoch, r.Verdict = 5, &api.Verdict{Pace: 2}
		return r
	}
	require.Equal(t, noon.Add(30*time.Second), *expectedEnd(fresh()))
	for name, spoil := range map[string]func(*api.RunDetail){
		"it ended":             func(r *api.RunDetail) { r.State = "finished" },
		"it announced nothing": func(r *api.RunDetail) { r.Hyper = nil },
		"words":                func(r *api.RunDetail) { r.Hyper["epochs"] = json.RawMessage(`"many"`) },
		"nothing began":        func(r *api.RunDetail) { r.Legs = nil },
		"it went beyond":       func(r *api.RunDetail) { r.Epoch = 21 },
		"centuries":            func(r *api.RunDetail) { r.Hyper["epochs"] = json.RawMessage("1e12") },
	} {
		r := fresh()
		spoil(r)
		require.Nil(t, expectedEnd(r), name)
	}
}
