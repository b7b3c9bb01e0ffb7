package web_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/keep"
)

// saved makes a finished run with a checkpoint at each epoch: every one holds shared, and bytes of its own.
func (s *served) saved(t *testing.T, shared []byte, losses ...float64) api.RunInput {
	leg := s.leg(t)
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", losses...))
	s.put(t, shared)
	for i, loss := range losses {
		own := noise(100_000, byte(10*leg.Number+i))
		s.put(t, own)
		in := manifest(leg, int64(i+1), map[string][]byte{"shared": shared, "own": own})
		in.Body.Figures = map[string]api.Float{"loss.val": api.Float(loss)}
		call(t, s, api.CommitCheckpoint, in)
	}
	end := &api.EndInput{LegInput: leg}
	end.Body.State = "finished"
	call(t, s, api.EndLeg, end)
	return leg.RunInput
}

// fates are what becomes of a run's checkpoints, from the first on.
func (s *served) fates(t *testing.T, run api.RunInput) string {
	var out []string
	for _, c := range call(t, s, api.ListCheckpoints, &run).Items {
		fate := "stays"
		switch {
		case c.Dropped != nil:
			fate = "dropped"
		case c.DeleteAt != nil:
			fate = "goes"
		case c.Pinned:
			fate = "pinned"
		}
		out = append([]string{strings.TrimPrefix(c.Address, "vessels/") + " " + fate}, out...)
	}
	return strings.Join(out, ", ")
}

func (s *served) setKeep(t *testing.T, rule keep.Rule) {
	call(t, s, api.SetKeepRule, &api.KeepRuleInput{ProjectInput: vessels, Body: api.KeepRule{Rule: rule}})
}

func checkpointAt(run api.RunInput, at string) api.CheckpointInput {
	return api.CheckpointInput{RunInput: run, At: at}
}

// A rule is tried, set, and changed; what goes stays for its time, can be brought back, and then leaves row, figures
// and digests.
func TestKeepRules(t *testing.T) {
	s := serve(t)
	s.project(t)
	shared := noise(300_000, 1)
	one := s.saved(t, shared, 5, 3, 2, 4)
	two := s.saved(t, shared, 9, 8)

	try := &api.TryKeepInput{ProjectInput: vessels}
	try.Body.Rule = &api.KeepRule{Rule: keep.Rule{Best: 1, Last: 1}}
	tried := call(t, s, api.TryKeepRule, try)
	require.Equal(t, []int{3, 3}, []int{tried.Going, tried.Staying})
	require.EqualValues(t, 300_003, tried.Frees, "what each alone holds: noise is not packed, and has a byte before it")
	require.EqualValues(t, 600_004, tried.Left)
	require.Equal(t, []string{"the best"}, tried.Checkpoints[2].Why)
	require.EqualValues(t, 100_001, tried.Checkpoints[0].Frees)
	require.Equal(t, "1@e1 stays, 1@e2 stays, 1@e3 stays, 1@e4 stays", s.fates(t, one), "trying changes nothing")
	try.Body.Runs = []int{two.Number}
	require.Len(t, call(t, s, api.TryKeepRule, try).Checkpoints, 2)

	s.setKeep(t, keep.Rule{Best: 1, Last: 1})
	require.Equal(t, "1@e1 goes, 1@e2 goes, 1@e3 stays, 1@e4 stays", s.fates(t, one))
	require.Equal(t, "2@e1 goes, 2@e2 stays", s.fates(t, two))
	at := checkpointAt(one, "e1")
	require.True(t, call(t, s, api.KeepCheckpoint, &at).Pinned, "brought back from a rule it is pinned")
	refuse(t, s, api.KeepCheckpoint, &at, api.Conflict, "stays")
	refuse(t, s, api.DropCheckpoint, &api.DropInput{CheckpointInput: at, Days: 1}, api.Conflict, "is pinned")
	s.setKeep(t, keep.Rule{Every: 2})
	require.Equal(t, "1@e1 pinned, 1@e2 stays, 1@e3 goes, 1@e4 stays", s.fates(t, one), "by another rule others go")
	call(t, s, api.SetRunKeepRule, &api.RunKeepRuleInput{RunInput: one, Body: struct {
		None bool          `json:"none,omitempty" doc:"True: all checkpoints of this run stay"`
		Rule *api.KeepRule `json:"rule,omitempty"`
	}{None: true}})
	require.Equal(t, "1@e1 pinned, 1@e2 stays, 1@e3 stays, 1@e4 stays", s.fates(t, one))
	require.Equal(t, "run", call(t, s, api.GetRunKeepRule, &one).From)
	call(t, s, api.DropRunKeepRule, &one)
	require.Equal(t, "project", call(t, s, api.GetRunKeepRule, &one).From)

	drop := &api.DropInput{CheckpointInput: checkpointAt(two, "e1"), Days: 3}
	require.Equal(t, "as Ines said", call(t, s, api.DropCheckpoint, drop).WhyDeleted)
	call(t, s, api.DropKeepRule, &vessels)
	require.Equal(t, "1@e1 pinned, 1@e2 stays, 1@e3 stays, 1@e4 stays", s.fates(t, one))
	require.Equal(t, "2@e1 goes, 2@e2 stays", s.fates(t, two), "no rule changes what a person said")
	call(t, s, api.KeepCheckpoint, &drop.CheckpointInput)
	require.Equal(t, "2@e1 stays, 2@e2 stays", s.fates(t, two), "a person's word is taken back without a pin")

	s.setKeep(t, keep.Rule{Last: 1, Grace: 1e-9})
	require.Eventually(t, func() bool {
		return s.fates(t,
			one) == "1@e1 pinned, 1@e2 dropped, 1@e3 dropped, 1@e4 stays"
	}, 60*time.Second, 50*time.Millisecond)
	gone := call(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: one, At: "e3"})
	require.Equal(t, "nothing", gone.UsableFor)
	require.EqualValues(t, 2, gone.Figures["loss.val"], "its figures stay")
	require.Contains(t, gone.Files[0].Digest, "b3:")
	require.Equal(t, "by the rule that keeps the last", gone.WhyDeleted)
	err := client.Restore(ctx, s.Client, checkpointAt(one, "e3"), gone.Files, filepath.Join(t.TempDir(), "x"),
		false, func(int64) {})
	require.ErrorContains(t, err, "were dropped on")
	gonePin := &api.PinInput{CheckpointInput: checkpointAt(one, "e3")}
	gonePin.Body.Pinned = true
	refuse(t, s, api.PinCheckpoint, gonePin, api.Gone, "were dropped")
	best := call(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: one, At: "best"})
	require.Equal(t, "vessels/1@e4", best.Address, "the best of those that are held")

	for _, run := range []api.RunInput{one, two} { // what is left is whole
		c := call(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: run, At: "last"})
		into := filepath.Join(t.TempDir(), "model")
		require.NoError(t, client.Restore(ctx, s.Client, checkpointAt(run, "last"), c.Files, into,
			false, func(int64) {}))
		got, err := os.ReadFile(filepath.Join(into, "shared"))
		require.NoError(t, err)
		require.Equal(t, shared, got)
	}
	var wrong int
	require.NoError(t, s.db.Pool.QueryRow(ctx,
		`select count(*) from chunk c where uses <> (select count(distinct (f.run, f.checkpoint)) from checkpoint_file f join checkpoint p on p.run = f.run and p.id = f.checkpoint,
		generate_series(0,
			length(f.chunks) / 36 - 1) i where p.dropped is null and substring(f.chunks from 36 * i + 1 for 32) = c.digest)`).Scan(&wrong))
	require.Zero(t, wrong, "uses are counted as they are")
}

// What another run began from stays, as does the last checkpoint of a run that is not over; a condition is judged with
// the checkpoint's figures.
func TestWhatKeepRulesMayNotDrop(t *testing.T) {
	s := serve(t)
	s.project(t)
	one := s.saved(t, noise(1000, 2), 5, 3, 2, 4)
	leg := s.leg(t) // 2 is running
	content := []byte("w")
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 1, map[string][]byte{"w": content}))
	in := &api.NewRun{ProjectInput: vessels, Key: "0190b6f5-0000-7000-8000-000000000001"}
	in.Body.Started, in.Body.Origin = time.Now(), &api.Origin{Kind: "branch", From: "vessels/1@e2"}
	call(t, s, api.BeginRun, in)

	why := func(rule keep.Rule) string {
		try := &api.TryKeepInput{ProjectInput: vessels}
		try.Body.Rule = &api.KeepRule{Rule: rule}
		var out []string
		for _, c := range call(t, s, api.TryKeepRule, try).Checkpoints {
			if c.Stays {
				out = append(out, strings.TrimPrefix(c.Address, "vessels/")+" "+strings.Join(c.Why, " and "))
			}
		}
		return strings.Join(out, "; ")
	}
	require.Equal(t, "1@e2 vessels/3 began from it; 1@e3 the best; 2@e1 the last", why(keep.Rule{Best: 1}),
		"2 has no figure, so the last stands in")
	where := `at("loss.val") > 3 && hyper.lr == 0.03 && epoch < 4`
	require.Equal(t, "1@e1 "+where+"; 1@e2 vessels/3 began from it; 2@e1 the run may have to go on from it",
		why(keep.Rule{Where: where}))
	require.Equal(t,
		"1@e2 vessels/3 began from it; 1@e3 at(\"loss.val\") < 1.2 * lowest(\"loss.val\"); 2@e1 the run may have to go on from it", why(keep.Rule{Where: `at("loss.val") < 1.2 * lowest("loss.val")`}))

	bad := &api.KeepRuleInput{ProjectInput: vessels}
	refuse(t, s, api.SetKeepRule, bad, api.Invalid, "would keep nothing")
	bad.Body.Where = "epoch <"
	refuse(t, s, api.SetKeepRule, bad, api.Invalid, "where, column")
	bad.Body.Where, bad.Body.Best = "", -1
	refuse(t, s, api.SetKeepRule, bad, api.Invalid, "")

	other := s.as(t, "Teo", map[string]string{"": "member"})
	refuse(t, other, api.SetKeepRule, &api.KeepRuleInput{ProjectInput: vessels,
		Body: api.KeepRule{Rule: keep.Rule{Best: 1}}}, api.Denied, "role owner")
	refuse(t, other, api.DropCheckpoint, &api.DropInput{CheckpointInput: checkpointAt(one, "e1"), Days: 1},
		api.Denied, "role owner")
	pin := &api.PinInput{CheckpointInput: checkpointAt(one, "e1")}
	pin.Body.Pinned = true
	require.True(t, call(t, other, api.PinCheckpoint, pin).Pinned, "a member may pin")
	pin.Body.Pinned = false
	require.False(t, call(t, other, api.PinCheckpoint, pin).Pinned)
}

// Sizes add up: own and shared bytes of projects, runs and checkpoints.
func TestSizes(t *testing.T) {
	s := serve(t)
	s.project(t)
	require.Equal(t, "No checkpoint is held.", call(t, s, api.GetStorage, &api.StorageInput{}).Says)
	shared := noise(300_000, 1)
	one := s.saved(t, shared, 5, 3)
	s.saved(t, shared, 9)
	z := call(t, s, api.GetStorage, &api.StorageInput{Project: "vessels"})
	require.Equal(t, api.Sizes{Checkpoints: 3, Whole: 1_200_000, Bytes: 600_000, Stored: 600_004,
		Own: 600_004}, z.Total)
	require.Equal(t, "vessels/1", z.Items[0].Address)
	require.Equal(t, []int64{500_003, 200_002}, []int64{z.Items[0].Stored, z.Items[0].Own})
	require.Contains(t, z.Says, "3 checkpoints of 1.20 MB take 600 kB: what is equal is kept once (600 kB less).")
	require.Contains(t, z.Says, fmt.Sprintf("The largest run is vessels/1 with %d %%.", 83))
	for _, c := range call(t, s, api.ListCheckpoints, &one).Items {
		require.Equal(t, []int64{400_002, 100_001}, []int64{c.Stored, c.Frees})
	}
	refuse(t, s, api.GetStorage, &api.StorageInput{Project: "nothing"}, api.NotFound, "no project")
}
