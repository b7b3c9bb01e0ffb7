package runs

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/slicetest"
	"kembrel/store"
)

// One recorder writes a leg, one leg a run; who takes over says so.
func TestWhoMayOpenALeg(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	got, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 1, got.Leg)
	require.Equal(t, []string{"running"}, q.states)
	q.legs[0].Batches, q.legs[0].Upto = 3, 40
	again, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	require.EqualValues(t, 3, again.Batch, "the same again is told how far it is")
	require.Len(t, q.legs, 1)

	other := *in
	other.Body.Recorder = uuid.NewString()
	_, err = s.OpenLeg(ctx, who, &other)
	require.True(t, api.Is(err, api.LegClaimed), "the one before is alive")
	other.Body.Previous = []string{in.Body.Recorder}
	_, err = s.OpenLeg(ctx, who, &other)
	require.NoError(t, err, "it is known to be gone")
	require.Equal(t, other.Body.Recorder, q.legs[0].Recorder)

	next := opening()
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "vessels/1 is being recorded: leg 1 on quay-3 was heard of")
	next.Body.TakeOver = true
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "say from which checkpoint")
	next.Body.From = "vessels/1@e9"
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "no such checkpoint")
	next.Body.From = "vessels/1"
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "goes on from a checkpoint")
	next.Body.From = "vessels/1@e2"
	got, err = s.OpenLeg(ctx, who, next)
	require.NoError(t, err)
	require.Equal(t, 2, got.Leg)

	q.legs[1].State, q.legs[1].Alive = "finished", false
	more := opening()
	more.Body.From = "vessels/1@e2"
	_, err = s.OpenLeg(ctx, who, more)
	require.ErrorContains(t, err, "is finished")
	more.Body.More = true
	_, err = s.OpenLeg(ctx, who, more)
	require.NoError(t, err)

	bad := opening()
	bad.Key = "no"
	_, err = s.OpenLeg(ctx, who, bad)
	require.True(t, api.Is(err, api.Invalid))
	bad.Key = "00000000-0000-4000-8000-000000000000"
	_, err = s.OpenLeg(ctx, who, bad)
	require.ErrorContains(t, err, "a leg of another run")
}

// A clock that is wrong is said on the run, and corrected.
func TestWrongClock(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	now := time.Now()
	ctx = act.WithClock(ctx, now.Add(-2*time.Hour), now)
	_, err := s.OpenLeg(ctx, who, opening())
	require.NoError(t, err)
	require.Equal(t, []string{"The clock of quay-3 is 2h0m0s behind the service's. Times are corrected by that; its " +
		"own logs differ from them."}, q.notes)
}

// A leg that was lost and is heard of again runs on.
func TestLostAndHeardOfAgain(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	_, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	require.NoError(t, s.LoseRuns(ctx))
	require.Equal(t, []string{"running", "lost"}, q.states, "the run of a newest leg, no other")
	q.legs[0].State = "lost"
	q.curves["loss.val"] = 1
	_, err = s.SendBatch(ctx, who, batch(1, in.Body.Recorder, 40))
	require.NoError(t, err)
	require.Equal(t, "running", q.states[2])
	require.Contains(t, q.h.Verbs(), "run vessels/1 heard-of-again")
}

// The newest leg's end is the run's; an older one's is its own.
func TestEndLeg(t *testing.T) {
	s, q, j := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	first := opening()
	_, err := s.OpenLeg(ctx, who, first)
	require.NoError(t, err)
	q.legs[0].Alive = false
	second := opening()
	second.Body.From = "vessels/1@e2"
	_, err = s.OpenLeg(ctx, who, second)
	require.NoError(t, err)
	end := func(leg int, recorder, state string) error {
		in := &api.EndInput{LegInput: api.LegInput{RunInput: one, Leg: leg, Recorder: recorder}}
		odd := 1 << 40
		in.Body.State, in.Body.ExitCode = state, &odd
		_, err := s.EndLeg(ctx, who, in)
		return err
	}
	require.NoError(t, end(1, first.Body.Recorder, "failed"))
	require.False(t, slices.Contains(q.states, "failed"))
	require.True(t, api.Is(end(2, first.Body.Recorder, "finished"), api.LegClaimed))
	require.NoError(t, end(2, second.Body.Recorder, "finished"))
	require.Equal(t, "finished", q.states[len(q.states)-1])
	require.Equal(t, []int64{101, 101}, j.runs)
}

// A recorder hears the stop rule in force, that another leg goes on, and why to stop.
func TestNews(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	_, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	life := &api.LegInput{RunInput: one, Leg: 1, Recorder: in.Body.Recorder}
	q.news = store.LegNews{LegState: "running", Fresh: true, Newest: 1, State: "running",
		Objective: api.Objective{Curve: "loss.val", Direction: "lower"}}
	news, err := s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Equal(t, "loss.val", news.Objective.Curve)
	require.Empty(t, news.Stop)
	require.Zero(t, q.seen, "what was heard a moment ago is not written")
	q.news.Fresh = false
	_, err = s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Equal(t, 1, q.seen)
	q.news.Stopped = json.RawMessage(`{"why":"Stop rule: no improvement."}`)
	news, err = s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Equal(t, "Stop rule: no improvement.", news.Stop)
	q.news.Newest, q.news.NewestHost = 2, "quay-4"
	news, err = s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Contains(t, news.Stop, "vessels/1 goes on as leg 2 on quay-4")
	life.Recorder = uuid.NewString()
	_, err = s.ShowLife(ctx, who, life)
	require.True(t, api.Is(err, api.LegClaimed))
	life.Leg = 7
	_, err = s.ShowLife(ctx, who, life)
	require.ErrorContains(t, err, "has no leg 7")
}
