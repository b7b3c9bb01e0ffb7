package searches

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/service/slicetest"
	"kembrel/store"
)

const harbourSpace = `
space: 1
hyperparameters:
  lr: {choice: [0.1, 0.01, 0.001]}
  hidden: {choice: [8, 16]}
`

// kept is a storage of searches in memory.
type kept struct {
	Storage
	Tx
	h      *slicetest.Harbour
	list   []store.Search
	keys   map[string]int
	trials []store.Trial
	full   bool // the disk takes nothing
}

func (k *kept) AddEvent(ctx context.Context, e store.Event) error { return k.h.AddEvent(ctx, e) }

func (k *kept) RunOf(ctx context.Context, run int64) (int64, string, error) {
	return k.h.RunOf(ctx, run)
}

func (k *kept) InTx(_ context.Context, do func(q Tx) error) error {
	list, events := append([]store.Search(nil), k.list...), k.h.Events
	err := do(k)
	if err == nil && k.full {
		err = errors.New("the disk is full")
	}
	if err != nil {
		k.list, k.h.Events = list, events
	}
	return err
}

func (k *kept) AddSearch(_ context.Context, n store.NewSearch) error {
	if _, known := k.keys[n.Key]; known {
		return nil
	}
	command, err := json.Marshal(n.Command)
	k.keys[n.Key] = len(k.list)
	k.list = append(k.list, store.Search{Number: len(k.list) + 1, Project: n.Project, Title: n.Title, Space: n.Space,
		Strategy: n.Strategy, Seed: n.Seed, Budget: n.Budget, Command: command, Who: "Teo"})
	return err
}

func (k *kept) SearchByKey(_ context.Context, key string) (store.Search, error) {
	i, known := k.keys[key]
	if !known || i >= len(k.list) {
		return store.Search{}, store.ErrNone
	}
	return k.list[i], nil
}

func (k *kept) SearchByNumber(_ context.Context, _ int64, number int) (store.Search, error) {
	if number < 1 || number > len(k.list) {
		return store.Search{}, store.ErrNone
	}
	return k.list[number-1], nil
}

func (k *kept) ListSearches(_ context.Context, _, below int64, _ string, limit int) (out []store.Search, err error) {
	for n := len(k.list); n > 0 && len(out) < limit; n-- {
		if below == 0 || int64(n) < below {
			out = append(out, k.list[n-1])
		}
	}
	return out, nil
}

func (k *kept) SearchSums(context.Context, int64, []int, bool) ([]store.SearchSum, error) {
	return nil, nil
}

func (k *kept) Trials(context.Context, int64, []int) ([]store.Trial, error) { return k.trials, nil }

func (k *kept) SetBudget(_ context.Context, _ int64, number, budget int) error {
	k.list[number-1].Budget = budget
	return nil
}

func (k *kept) ArchiveSearch(_ context.Context, _ int64, number int, archived bool) error {
	k.list[number-1].Archived = nil
	if archived {
		now := time.Now()
		k.list[number-1].Archived = &now
	}
	return nil
}

func (k *kept) DeleteSearch(_ context.Context, _ int64, number int) error {
	k.list = k.list[:number-1]
	return nil
}

func fresh() (*Searches, *kept, *slicetest.Harbour) {
	h := slicetest.New(3)
	k := &kept{h: h, keys: map[string]int{}}
	return New(h.Finder(), k), k, h
}

func wanted(strategy string, budget int) *api.NewSearch {
	in := &api.NewSearch{ProjectInput: slicetest.In, Key: uuid.NewString()}
	in.Body.Title, in.Body.Strategy, in.Body.Space, in.Body.Budget = "lr and size", strategy, harbourSpace, budget
	in.Body.Command = []string{"train", "--lr", "{lr}", "--hidden", "{hidden}"}
	return in
}

func TestCreateSearch(t *testing.T) {
	s, k, h := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "member")
	in := wanted("grid", 100)
	got, err := s.CreateSearch(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 6, got.Count)
	require.Len(t, got.Trials, 6)
	require.Equal(t, "0.1", string(got.Trials[0].Setting["lr"]))
	require.Equal(t, "16", string(got.Trials[1].Setting["hidden"]), "the last changes first")
	require.Equal(t, "0 of 6 trials are done. The space has no more than 6 settings.", got.Says)
	again, err := s.CreateSearch(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, got.Number, again.Number, "the same key, the same search")
	require.Equal(t, "search vessels created", h.Verbs()[0])

	for says, change := range map[string]func(in *api.NewSearch){
		"is not a UUID":        func(in *api.NewSearch) { in.Key = "x" },
		"the space":            func(in *api.NewSearch) { in.Body.Space = "space: 7" },
		"depth":                func(in *api.NewSearch) { in.Body.Command = []string{"train", "{depth}"} },
		"there is no project":  func(in *api.NewSearch) { in.Project = "docks" },
		"\"quays\"; kembrel p": func(in *api.NewSearch) { in.Project = "quays" },
	} {
		bad := wanted("grid", 5)
		change(bad)
		_, err := s.CreateSearch(ctx, who, bad)
		require.ErrorContains(t, err, says)
	}
	k.full = true
	_, err = s.CreateSearch(ctx, who, wanted("random", 3))
	require.ErrorContains(t, err, "disk is full")
	require.Len(t, k.list, 1, "none is half there")
}

// The same space, strategy and seed pick the same settings; a larger budget only adds.
func TestBudget(t *testing.T) {
	s, _, h := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "member")
	small, err := s.CreateSearch(ctx, who, wanted("random", 3))
	require.NoError(t, err)
	edit := &api.SearchEdit{SearchInput: api.SearchInput{ProjectInput: slicetest.In, Number: small.Number}}
	edit.Body.Budget = 5
	large, err := s.ChangeSearch(ctx, who, edit)
	require.NoError(t, err)
	require.Len(t, large.Trials, 5)
	require.Equal(t, small.Trials, large.Trials[:3])
	last := h.Events[len(h.Events)-1]
	require.Equal(t, "budget-set", last.Verb)
	require.Equal(t, who.ID, last.Person)
	edit.Number = 9
	_, err = s.ChangeSearch(ctx, who, edit)
	require.ErrorContains(t, err, "there is no search 9 in vessels")
}

func TestHowFarASearchIs(t *testing.T) {
	s, k, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "member")
	_, err := s.CreateSearch(ctx, who, wanted("grid", 6))
	require.NoError(t, err)
	best, worse := 0.25, 0.5
	k.trials = []store.Trial{
		{Search: 1, Trial: 1, Number: 11, State: "finished", Done: true, Best: &worse},
		{Search: 1, Trial: 2, Number: 12, State: "running"},
		{Search: 1, Trial: 3, Number: 13, State: "failed", Done: true},
		{Search: 1, Trial: 4, Number: 14, State: "finished", Done: true, Best: &best},
		{Search: 1, Trial: 5, Number: 15, State: "lost"}}
	got, err := s.GetSearch(ctx, who, &api.SearchInput{ProjectInput: slicetest.In, Number: 1})
	require.NoError(t, err)
	require.Equal(t, "3 of 6 trials are done, 1 running, 1 failed, 1 lost; best so far 0.25 by vessels/14 (trial 4).",
		got.Says)
	require.Equal(t, 12, got.Trials[1].Run)
	require.Zero(t, got.Trials[5].Run)
}

func TestListArchiveDelete(t *testing.T) {
	s, k, h := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "member")
	for range 3 {
		_, err := s.CreateSearch(ctx, who, wanted("grid", 6))
		require.NoError(t, err)
	}
	in := &api.SearchesInput{ProjectInput: slicetest.In}
	in.Limit = 2
	page, err := s.ListSearches(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, []int{3, 2}, []int{page.Items[0].Number, page.Items[1].Number})
	require.Empty(t, page.Items[0].Trials)
	in.Cursor = page.Next
	page, err = s.ListSearches(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 1, page.Items[0].Number)
	require.Empty(t, page.Next)
	in.Cursor = "-4"
	_, err = s.ListSearches(ctx, who, in)
	require.True(t, api.Is(err, api.Malformed))

	archive := &api.SearchArchiveInput{SearchInput: api.SearchInput{ProjectInput: slicetest.In, Number: 3}}
	archive.Body.Archived = true
	got, err := s.ArchiveSearch(ctx, who, archive)
	require.NoError(t, err)
	require.True(t, got.Archived)
	_, err = s.DeleteSearch(ctx, who, &archive.SearchInput)
	require.NoError(t, err)
	require.Len(t, k.list, 2)
	require.Equal(t, []string{"search vessels search 3 archived", "search vessels search 3 deleted"}, h.Verbs()[3:])
	// A space that was written by a later version is said, and costs only itself.
	k.list[0].Space = "space: 9"
	_, err = s.GetSearch(ctx, who, &api.SearchInput{ProjectInput: slicetest.In, Number: 1})
	require.ErrorContains(t, err, "space of search 1")
	_, err = s.GetSearch(ctx, who, &api.SearchInput{ProjectInput: slicetest.In, Number: 2})
	require.NoError(t, err)
}
