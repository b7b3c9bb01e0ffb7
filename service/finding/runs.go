package finding

import (
	"context"
	"errors"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/store"
)

// Project finds a project by its key. One that whoever asks may not see is not there.
func (s *Finder) Project(ctx context.Context, key string) (store.Project, error) {
	if err := api.CheckProjectKey(key); err != nil {
		return store.Project{}, api.Fail(api.Invalid, "%v", err)
	}
	if sees, err := s.Sees(ctx, key); err != nil || !sees {
		if err == nil {
			err = act.NoProject(key)
		}
		return store.Project{}, err
	}
	p, err := s.db.ProjectByKey(ctx, key)
	if err != nil {
		return p, act.OrNotFound(err, "there is no project %q; kembrel projects lists them", key)
	}
	return p, nil
}

// LegEnds says for each leg of a run, by its number, at which step it ends to count.
func (s *Finder) LegEnds(ctx context.Context, run int64) (map[int]int64, error) {
	legs, err := s.db.ListLegs(ctx, run)
	if err != nil {
		return nil, err
	}
	starts, out := make([]int64, len(legs)), make(map[int]int64, len(legs))
	for i, l := range legs {
		starts[i] = l.FromStep
	}
	for i, end := range curve.Ends(starts) {
		out[legs[i].Number] = end
	}
	return out, nil
}

// RunID finds a run's id by its address.
func (s *Finder) RunID(ctx context.Context, in api.RunInput) (int64, error) {
	if err := api.CheckProjectKey(in.Project); err != nil {
		return 0, api.Fail(api.Invalid, "%v", err)
	}
	if sees, err := s.Sees(ctx, in.Project); err != nil || !sees {
		if err == nil {
			err = act.NoProject(in.Project)
		}
		return 0, err
	}
	if id, ok := s.runs.Get(in); ok {
		return id, nil
	}
	id, err := s.db.RunID(ctx, in.Project, in.Number)
	if err == nil {
		s.runs.Put(in, id)
	}
	if !errors.Is(err, store.ErrNone) {
		return id, err
	}
	if _, err := s.Project(ctx, in.Project); err != nil {
		return 0, err
	}
	return 0, orNoRun(err, in)
}

// orNoRun says of a row that is missing that there is no such run.
func orNoRun(err error, in api.RunInput) error {
	return act.OrNotFound(err, "there is no run %s; kembrel runs %s lists the project's runs",
		act.RunAddress(in.Project, in.Number), in.Project)
}

// Run shows a run.
func (s *Finder) Run(ctx context.Context, in api.RunInput) (*api.Run, error) {
	r, _, _, err := s.RunWith(ctx, in)
	return r, err
}

// RunWith finds a run, its row, and the summary of its objective.
func (s *Finder) RunWith(ctx context.Context, in api.RunInput) (*api.Run, store.Run, store.Summary, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, store.Run{}, store.Summary{}, err
	}
	row, err := s.db.RunByNumber(ctx, p.ID, in.Number)
	if err != nil { // it may be remembered, though it was deleted a moment ago
		return nil, store.Run{}, store.Summary{}, orNoRun(err, in)
	}
	sums, err := s.db.Summaries(ctx, []int64{row.ID}, p.Objective.Curve)
	if err != nil {
		return nil, store.Run{}, store.Summary{}, err
	}
	var sum store.Summary
	if len(sums) > 0 {
		sum = sums[0]
	}
	run := s.ToRun(ctx, in.Project, p.Objective, row, sum)
	return &run, row, sum, nil
}
