package checkpoints

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/core/keep"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/slicetest"
	"kembrel/store"
)

type tx = Tx

// shelf is a storage of checkpoints in memory.
type shelf struct {
	Storage
	tx
	h          *slicetest.Harbour
	rows       map[int64][]store.Checkpoint // by run, the newest first
	files      map[int64][]store.File       // by checkpoint
	rule       json.RawMessage
	beginnings []store.Beginning
	going      map[int64]string // by checkpoint: why
	staying    []int64
}

func (s *shelf) AddEvent(ctx context.Context, e store.Event) error { return s.h.AddEvent(ctx, e) }

func (s *shelf) RunOf(ctx context.Context, run int64) (int64, string, error) {
	return s.h.RunOf(ctx, run)
}

func (s *shelf) InTx(_ context.Context, do func(q Tx) error) error { return do(s) }

func (s *shelf) ListCheckpoints(_ context.Context, run int64) ([]store.Checkpoint, error) {
	return s.rows[run], nil
}

func (s *shelf) ListFiles(_ context.Context, run, checkpoint int64) (out []store.File, err error) {
	for _, c := range s.rows[run] {
		if checkpoint == 0 || c.ID == checkpoint {
			out = append(out, s.files[c.ID]...)
		}
	}
	return out, nil
}

func (s *shelf) Verifications(context.Context, int64) (map[int64][]api.Verification, error) {
	return nil, nil
}

func (s *shelf) Held(_ context.Context, in store.HeldQuery) (map[int64]store.Held, error) {
	out := map[int64]store.Held{0: {Stored: 1000 * int64(len(in.Checkpoints))}}
	for _, id := range in.Checkpoints {
		out[id] = store.Held{Stored: 1000, Own: 600}
	}
	return out, nil
}

func (s *shelf) Beginnings(context.Context) ([]store.Beginning, error) { return s.beginnings, nil }

func (s *shelf) KeepCandidates(_ context.Context, _ int64, numbers []int64) (out []store.KeepCandidate, err error) {
	for run := int64(101); run < 110; run++ {
		number := int(run - 100)
		if numbers != nil && !slices.Contains(numbers, int64(number)) {
			continue
		}
		for _, c := range slices.Backward(s.rows[run]) {
			if c.Dropped == nil {
				out = append(out, store.KeepCandidate{Run: run, Number: number, State: s.h.Runs[number].State,
					Rule: s.rule, ID: c.ID, Standing: store.Standing{Leg: c.Leg, Step: c.Step, Epoch: c.Epoch},
					Saved: c.Saved, Size: c.Size, Figures: c.Figures, Pinned: c.Pinned, Goes: c.Goes, ByRule: c.ByRule})
			}
		}
	}
	return out, nil
}

func (s *shelf) RunValues(_ context.Context, _ store.RunQuery, numbers []int64,
	expressions []*filter.Node) (map[int64][]json.RawMessage, error) {
	out := map[int64][]json.RawMessage{}
	for _, n := range numbers {
		for _, e := range expressions {
			text, err := json.Marshal(map[string]any{"state": s.h.Runs[int(n)].State, "lr": 0.1,
				"tags": []string{"baseline"}, "started": time.Now().Add(-48 * time.Hour)}[e.Name])
			if err != nil {
				return nil, err
			}
			out[n] = append(out[n], text)
		}
	}
	return out, nil
}

func (s *shelf) CheckpointsGo(_ context.Context, ids []int64, _ time.Duration, why string, _ bool) (int64, error) {
	for _, id := range ids {
		s.going[id] = why
	}
	return int64(len(ids)), nil
}

func (s *shelf) CheckpointsStay(_ context.Context, ids []int64, _ bool) (int64, error) {
	s.staying = append(s.staying, ids...)
	return int64(len(ids)), nil
}

func (s *shelf) PinCheckpoint(_ context.Context, run, id int64, pinned bool) (bool, error) {
	for i, c := range s.rows[run] {
		if c.ID == id {
			s.rows[run][i].Pinned = pinned
		}
	}
	return true, nil
}

// shelve puts checkpoints of epochs with their losses on a run's shelf; the id of each is 1000 and its epoch, and ten
// times more for each later run.
func (s *shelf) shelve(number int, losses ...float64) {
	run := int64(100 + number)
	for i, loss := range losses {
		epoch := i + 1
		figures := fmt.Sprintf(`{"loss.val": %v}`, loss)
		if math.IsNaN(loss) {
			figures = `{"loss.val": "NaN"}`
		}
		c := store.Checkpoint{ID: int64(1000*number + epoch), Leg: 1, Step: int64(40 * epoch), Epoch: float64(epoch),
			Figures: json.RawMessage(figures), Saved: time.Now(), Size: 5000}
		s.rows[run] = append([]store.Checkpoint{c}, s.rows[run]...)
		s.files[c.ID] = []store.File{{Checkpoint: c.ID, Part: "weights", Path: "w", Size: 5000,
			Digest: make([]byte, 32)}}
	}
	s.h.Legs[run] = []store.Leg{{Number: 1, State: "ended", LastStep: int64(40 * len(losses))}}
	best := slices.Index(losses, slices.Min(losses)) + 1
	s.h.Sums[run] = []store.Summary{{Name: "loss.val", Count: 9, LowValue: slices.Min(losses),
		LowStep: int64(40 * best), LowEpoch: float64(best), HighValue: 9, LastValue: losses[len(losses)-1]}}
}

func fresh(runs int) (*Checkpoints, *shelf, *slicetest.Harbour) {
	h := slicetest.New(runs)
	s := &shelf{h: h, rows: map[int64][]store.Checkpoint{}, files: map[int64][]store.File{}, going: map[int64]string{}}
	return New(h.Finder(), s, nil, nil, s), s, h
}

var vessels = store.Keeping{ID: 1, Key: "vessels", Objective: verdict.Objective{Curve: "loss.val",
	Direction: verdict.Lower}}

// stay are the checkpoints that stay by a rule, with why.
func stay(t *testing.T, s *Checkpoints, rule keep.Rule) map[string]string {
	t.Helper()
	list, err := s.decide(t.Context(), vessels, nil, &rule)
	require.NoError(t, err)
	out := map[string]string{}
	for _, d := range list {
		if len(d.why) > 0 {
			out[fmt.Sprintf("%d@e%v", d.Number, d.Epoch)] = fmt.Sprint(d.why)
		}
	}
	return out
}

func TestDecide(t *testing.T) {
	s, shelf, _ := fresh(2)
	shelf.shelve(1, 0.9, 0.4, 0.6)
	shelf.shelve(2, 0.8, math.NaN())
	require.Equal(t, map[string]string{"1@e2": "[the best]", "1@e3": "[the last]", "2@e1": "[the best]",
		"2@e2": "[the last]"}, stay(t, s, keep.Rule{Best: 1, Last: 1}))
	// A condition takes figures, epoch, step and size from the checkpoint, all else from the run.
	for where, want := range map[string]int{`at("loss.val") < 0.7`: 2, `epoch == 1.0 && state == "finished"`: 2,
		`state == "lost"`: 0, `hyper.lr < 0.2 && step > 40`: 3, `size > 4000`: 5,
		`"baseline" in tags && epoch > 2.0`: 1,
		`started > ago("1d")`:               0} {
		list := stay(t, s, keep.Rule{Where: where, Best: 0})
		matched := 0
		for _, why := range list {
			if why == "["+where+"]" {
				matched++
			}
		}
		require.Equal(t, want, matched, "%s: %v", where, list)
	}
	_, err := s.decide(t.Context(), vessels, nil, &keep.Rule{Where: "weather"})
	require.ErrorContains(t, err, "where, column 1")
}

// What another run began from stays, whoever may see that run; a leg that goes on in its own run holds to nothing.
func TestChildrenHold(t *testing.T) {
	s, shelf, _ := fresh(2)
	shelf.shelve(1, 0.9, 0.4, 0.6)
	shelf.beginnings = []store.Beginning{{Address: "vessels/2", From: "vessels/1@e1", Step: 40},
		{Address: "vessels/1", From: "vessels/1@e2", Step: 80}, {Address: "quays/5", From: "vessels/1@e1", Step: 40},
		{Address: "quays/6", From: "docks/1@e1", Step: 40}}
	ctx, _ := slicetest.Ctx(t.Context(), "owner")
	list, err := s.decide(ctx, vessels, nil, &keep.Rule{Last: 1})
	require.NoError(t, err)
	require.Equal(t, []string{"vessels/2, a run that you do not see began from it"}, list[0].why)
	require.Empty(t, list[1].why)
}

// Rules that are set begin grace periods and end them, and one event says so.
func TestApplyKeepRules(t *testing.T) {
	s, shelf, h := fresh(1)
	shelf.shelve(1, 0.9, 0.4, 0.6)
	soon := time.Now().Add(time.Hour)
	shelf.rows[101][1].Goes, shelf.rows[101][1].ByRule = &soon, true // e2, by a rule of before
	require.NoError(t, s.applyKeepRules(t.Context(), vessels))
	require.Equal(t, []int64{1002}, shelf.staying, "no rule is set: all stay")
	shelf.staying, shelf.rule = nil, json.RawMessage(`{"best":1,"grace":3}`)
	require.NoError(t, s.applyKeepRules(t.Context(), vessels))
	require.Equal(t, []int64{1002}, shelf.staying)
	require.Contains(t, shelf.going[1001], "by the rule that keeps the best")
	last := h.Events[len(h.Events)-1]
	require.Equal(t, "keep-rules-applied", last.Verb)
	require.Zero(t, last.Person, "nobody did it")
	events := len(h.Events)
	shelf.rows[101] = shelf.rows[101][1:2]
	shelf.rows[101][0].Goes = nil
	require.NoError(t, s.applyKeepRules(t.Context(), vessels))
	require.Len(t, h.Events, events, "nothing to do is no event")
	shelf.rule = json.RawMessage(`{"best":`)
	require.NoError(t, s.applyKeepRules(t.Context(), vessels), "a rule that cannot be read keeps all")
}

func TestTryKeepRule(t *testing.T) {
	s, shelf, h := fresh(1)
	shelf.shelve(1, 0.9, 0.4, 0.6)
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := &api.TryKeepInput{ProjectInput: slicetest.In}
	in.Body.Rule = &api.KeepRule{Rule: keep.Rule{Best: 1}}
	got, err := s.TryKeepRule(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, []bool{false, true, false}, []bool{got.Checkpoints[0].Stays, got.Checkpoints[1].Stays,
		got.Checkpoints[2].Stays})
	require.Equal(t, 2, got.Going)
	require.Equal(t, "vessels/1@e2", got.Checkpoints[1].Address)
	require.EqualValues(t, 600, got.Checkpoints[1].Frees)
	require.Empty(t, h.Events)
	require.Empty(t, shelf.going)
	in.Body.Runs = []int{7}
	_, err = s.TryKeepRule(ctx, who, in)
	require.ErrorContains(t, err, "there is no run vessels/7")
	in.Body.Runs, in.Body.Rule = nil, &api.KeepRule{Rule: keep.Rule{Best: -1}}
	_, err = s.TryKeepRule(ctx, who, in)
	require.True(t, api.Is(err, api.Invalid))
}

// An address is resolved by what the run and its legs say; what is not there is said with what is.
func TestFind(t *testing.T) {
	s, shelf, _ := fresh(2)
	shelf.shelve(1, 0.9, 0.4, 0.6, 0.7)
	shelf.h.Legs[101] = []store.Leg{{Number: 1, LastStep: 160}, {Number: 2, FromStep: 121, LastStep: 200}}
	find := func(number int, at string) (string, error) {
		in := api.CheckpointInput{RunInput: api.RunInput{ProjectInput: slicetest.In, Number: number}, At: at}
		c, files, _, err := s.FindHeld(act.ByItself(t.Context()), in)
		if err != nil {
			return "", err
		}
		require.Len(t, files, 1)
		return c.Address, nil
	}
	for at, want := range map[string]string{"best": "vessels/1@e2", "last": "vessels/1@e3", "e1": "vessels/1@e1",
		"s80": "vessels/1@e2", "s160.leg1": "vessels/1@s160.leg1"} {
		got, err := find(1, at)
		require.NoError(t, err, at)
		require.Equal(t, want, got, at)
	}
	gone := time.Date(2026, 11, 3, 4, 5, 0, 0, time.UTC)
	shelf.rows[101][3].Dropped, shelf.rows[101][3].WhyGoes = &gone, "as Ines said"
	for _, c := range []struct {
		number int
		at     string
		kind   api.Kind
		says   string
	}{{1, "e9", api.NotFound, "kembrel checkpoints vessels/1 lists"}, {1, "nine", api.Invalid, "write e12"},
		{1, "s160", api.NotFound, "replaced by a later leg: vessels/1@s160.leg1"},
		{2, "last", api.NotFound, "has no checkpoint"},
		{1, "e1", api.Gone, "were dropped on 3 November 2026 04:05 UTC as Ines said"},
		{5, "e1", api.NotFound, "no run"}} {
		_, err := find(c.number, c.at)
		require.True(t, api.Is(err, c.kind), "%s: %v", c.at, err)
		require.ErrorContains(t, err, c.says)
	}
	// Where the bytes of the best are gone, the best of those held is, by the figures they were saved with.
	shelf.rows[101][2].Dropped = &gone
	got, err := find(1, "best")
	require.NoError(t, err)
	require.Equal(t, "vessels/1@e3", got)
}

func TestPinKeepDrop(t *testing.T) {
	s, shelf, h := fresh(1)
	shelf.shelve(1, 0.9, 0.4)
	ctx, who := slicetest.Ctx(t.Context(), "owner")
	at := api.CheckpointInput{RunInput: api.RunInput{ProjectInput: slicetest.In, Number: 1}, At: "e2"}
	pin := &api.PinInput{CheckpointInput: at}
	pin.Body.Pinned = true
	c, err := s.PinCheckpoint(ctx, who, pin)
	require.NoError(t, err)
	require.True(t, c.Pinned)
	_, err = s.DropCheckpoint(ctx, who, &api.DropInput{CheckpointInput: at, Days: 2})
	require.ErrorContains(t, err, "is pinned; take the pin away first")
	_, err = s.KeepCheckpoint(ctx, who, &at)
	require.ErrorContains(t, err, "vessels/1@e2 stays")
	pin.Body.Pinned = false
	_, err = s.PinCheckpoint(ctx, who, pin)
	require.NoError(t, err)
	shelf.beginnings = []store.Beginning{{Address: "quays/3", From: "vessels/1@e2", Step: 80}}
	_, err = s.DropCheckpoint(ctx, who, &api.DropInput{CheckpointInput: at, Days: 2})
	require.NoError(t, err)
	require.Equal(t, "as Teo said", shelf.going[1002])
	last := h.Events[len(h.Events)-1]
	require.Equal(t, "to-be-dropped", last.Verb)
	require.Equal(t, 1, last.Data["began_from_it"], "how many, not which: others read it")
	soon := time.Now().Add(time.Hour)
	shelf.rows[101][0].Goes, shelf.rows[101][0].ByRule = &soon, true
	c, err = s.KeepCheckpoint(ctx, who, &at)
	require.NoError(t, err)
	require.True(t, c.Pinned, "or the rule would say so again")
}
