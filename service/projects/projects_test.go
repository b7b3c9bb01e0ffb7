package projects

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/slicetest"
	"kembrel/store"
)

// yard is a storage of projects in memory.
type yard struct {
	h     *slicetest.Harbour
	roles map[int64]string // that people were given, by project
	best  int              // times that the best readings were looked up anew
	base  int              // number of the baseline
	views []store.View
	moved []store.Improvement // newest first
	since int                 // runs after the first of them
}

func (y *yard) AddEvent(ctx context.Context, e store.Event) error { return y.h.AddEvent(ctx, e) }

func (y *yard) RunOf(ctx context.Context, run int64) (int64, string, error) {
	return y.h.RunOf(ctx, run)
}

func (y *yard) InTx(_ context.Context, do func(q Tx) error) error { return do(y) }

func (y *yard) AddProject(_ context.Context, key, title string, o verdict.Objective, _ int64) (int64, bool, error) {
	if _, there := y.h.Projects[key]; there {
		return 0, false, nil
	}
	id := int64(len(y.h.Projects) + 1)
	y.h.Projects[key] = store.Project{ID: id, Key: key, Title: title, Objective: o, Open: true}
	return id, true, nil
}

func (y *yard) SetRole(_ context.Context, project, _, _ *int64, role string) error {
	y.roles[*project] = role
	return nil
}

func (y *yard) ListProjects(_ context.Context, _ store.Seen, key, _, _ string, _ int) (out []store.CountedProject,
	err error) {
	if p, there := y.h.Projects[key]; there {
		out = append(out, store.CountedProject{Project: p, Runs: 3, Running: 1})
	}
	return out, nil
}

func (y *yard) BestRun(_ context.Context, _ int64, lower bool) (store.BestRun, error) {
	if !lower {
		return store.BestRun{}, store.ErrNone
	}
	return store.BestRun{ID: 101, Number: 1}, nil
}

func (y *yard) Improvements(_ context.Context, _ int64, _ bool, limit int) ([]store.Improvement, error) {
	return y.moved[:min(limit, len(y.moved))], nil
}

func (y *yard) RunsSince(_ context.Context, _ int64, _, limit int) (int64, error) {
	return int64(min(y.since, limit)), nil
}

func (y *yard) Summaries(ctx context.Context, runs []int64, name string) ([]store.Summary, error) {
	return y.h.Summaries(ctx, runs, name)
}

func (y *yard) DeleteProject(_ context.Context, id int64) (bool, error) {
	for key, p := range y.h.Projects {
		if p.ID == id && key == "tryout" {
			delete(y.h.Projects, key)
			return true, nil
		}
	}
	return false, nil
}

func (y *yard) ChangeProject(_ context.Context, id int64, c store.ProjectChange) error {
	title, o, open := c.Title, c.Objective, c.Open
	for key, p := range y.h.Projects {
		if p.ID != id {
			continue
		}
		if title != nil {
			p.Title = *title
		}
		if o != nil {
			p.Objective = *o
		}
		if open != nil {
			p.Open = *open
		}
		y.h.Projects[key] = p
	}
	return nil
}

func (y *yard) SetBest(context.Context, int64) error { y.best++; return nil }

func (y *yard) ForgetBest(context.Context, int64) error { return nil }

func (y *yard) SetBaseline(_ context.Context, _ int64, number int) error { y.base = number; return nil }

func (y *yard) ListViews(context.Context, int64, int64) ([]store.View, error) { return y.views, nil }

func (y *yard) SetView(_ context.Context, _ int64, person *int64, name, look string) (int64, error) {
	y.views = append(y.views, store.View{ID: int64(len(y.views) + 1), Name: name, Look: look, Everybody: person == nil})
	return int64(len(y.views)), nil
}

func (y *yard) DropView(_ context.Context, _, _ int64, id int64, everybodys bool) (bool, error) {
	if id < 1 || int(id) > len(y.views) || y.views[id-1].Everybody && !everybodys {
		return false, nil
	}
	y.views = y.views[:id-1]
	return true, nil
}

func fresh() (*Projects, *yard) {
	h := slicetest.New(2)
	h.Sums[101] = []store.Summary{{Name: "loss.val", Count: 4, LowValue: 0.3, LowStep: 80, LowEpoch: 2, HighValue: 1}}
	y := &yard{h: h, roles: map[int64]string{}}
	return New(h.Finder(), y), y
}

func TestCreateProject(t *testing.T) {
	s, y := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "member")
	in := &api.NewProject{}
	in.Body.Key, in.Body.Title = "buoys", "Buoys"
	got, err := s.CreateProject(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, api.Objective{Curve: "loss.val", Direction: verdict.Lower}, got.Objective)
	require.Equal(t, "owner", y.roles[3], "who creates it owns it")
	require.Equal(t, []string{"project buoys created"}, y.h.Verbs())
	for key, kind := range map[string]api.Kind{"buoys": api.Conflict, "quays": api.Conflict, "go": api.Invalid,
		"storage": api.Invalid, "Buoys": api.Invalid, "": api.Invalid} {
		in.Body.Key = key
		_, err := s.CreateProject(ctx, who, in)
		require.True(t, api.Is(err, kind), "%q: %v", key, err)
	}
	in.Body.Key, in.Body.Objective = "locks", api.Objective{Curve: "loss.val"}
	_, err = s.CreateProject(ctx, who, in)
	require.ErrorContains(t, err, "needs a direction")
	require.Len(t, y.h.Events, 1)
}

func TestImprovements(t *testing.T) {
	s, y := fresh()
	says := func(limit int) string {
		in := &api.ImprovementsInput{Limit: limit}
		in.Project = "vessels"
		out, err := s.GetImprovements(act.ByItself(context.Background()), act.Who{}, in)
		require.NoError(t, err)
		require.NotNil(t, out.Items)
		for i := 1; i < len(out.Items); i++ {
			require.True(t, out.Items[i-1].Started.Before(out.Items[i].Started), "oldest first")
		}
		return out.Says
	}
	require.Equal(t, "No run has a reading of loss.val yet.", says(9))
	on := func(number, day int, best float64) store.Improvement {
		return store.Improvement{Number: number, Best: best, Started: time.Date(2026, 10, day, 9, 0, 0, 0, time.UTC)}
	}
	y.moved = []store.Improvement{on(1, 4, 0.5)}
	require.Equal(t, "The best loss.val is 0.5 (vessels/1, 2026-10-04).", says(9))
	y.since = 1
	require.Equal(t, "The best loss.val is 0.5 (vessels/1, 2026-10-04); the run after it was no better.", says(9))
	y.moved, y.since = []store.Improvement{on(7, 6, 0.123456), on(4, 5, 0.25), on(1, 4, 0.5)}, 3
	require.Equal(t, "loss.val went from 0.5 (vessels/1, 2026-10-04) to 0.1235 (vessels/7, 2026-10-06) in 2 steps; "+
		"of 3 runs after it none was better.", says(9))
	require.Equal(t, "loss.val went from 0.5 (vessels/1, 2026-10-04) to 0.1235 (vessels/7, 2026-10-06) in 2 steps; "+
		"of 3 runs after it none was better.", says(3))
	y.since = 70_000
	require.Equal(t, "loss.val went from 0.25 (vessels/4, 2026-10-05) to 0.1235 (vessels/7, 2026-10-06) in the last "+
		"1 step; of more than 1000 runs after it none was better.", says(2))
}

func TestChangeProject(t *testing.T) {
	s, y := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "owner")
	title := "Vessels by sound"
	in := &api.ProjectEdit{ProjectInput: slicetest.In}
	in.Body.Title = &title
	got, err := s.ChangeProject(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, title, got.Title)
	require.Zero(t, y.best)
	require.Equal(t, 1, got.BestRun)
	require.EqualValues(t, 0.3, got.Best.Value)

	higher := api.Objective{Curve: "accuracy.val", Direction: verdict.Higher}
	in.Body.Title, in.Body.Objective = nil, &higher
	got, err = s.ChangeProject(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 1, y.best, "another objective, another best")
	require.Nil(t, got.Best)
	last := y.h.Events[len(y.h.Events)-1]
	require.Equal(t, map[string]any{"objective": higher}, last.Data)

	closed := false
	in.Body.Objective, in.Body.Open = nil, &closed
	_, err = s.ChangeProject(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, "owner", y.roles[1], "who closes it stays in")
	in.Project = "quays"
	_, err = s.ChangeProject(ctx, who, in)
	require.True(t, api.Is(err, api.NotFound))
}

func TestBaseline(t *testing.T) {
	s, y := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "member")
	in := &api.BaselineInput{ProjectInput: slicetest.In}
	in.Body.Run = 9
	_, err := s.SetBaseline(ctx, who, in)
	require.ErrorContains(t, err, "no run vessels/9")
	in.Body.Run = 2
	_, err = s.SetBaseline(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 2, y.base)
	in.Body.Run = 0
	_, err = s.SetBaseline(ctx, who, in)
	require.NoError(t, err)
	require.Zero(t, y.base)
}

// A view for everybody is a member's; one's own is anybody's.
func TestViews(t *testing.T) {
	s, y := fresh()
	as := func(role api.RoleName) (context.Context, act.Who) { return slicetest.Ctx(t.Context(), role) }
	in := &api.ViewInput{ProjectInput: slicetest.In}
	in.Body.Name, in.Body.Look, in.Body.Everybody = "by loss\x00", "sort=best", true
	ctx, who := as("reader")
	_, err := s.KeepView(ctx, who, in)
	require.True(t, api.Is(err, api.Denied))
	in.Body.Everybody = false
	_, err = s.KeepView(ctx, who, in)
	require.NoError(t, err)
	in.Body.Everybody = true
	ctx, who = as("member")
	kept, err := s.KeepView(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, "by loss\uFFFD", kept.Name, "what the database cannot hold")
	list, err := s.ListViews(ctx, who, &slicetest.In)
	require.NoError(t, err)
	require.Len(t, list.Items, 2)
	ctx, who = as("reader")
	drop := &api.ViewIDInput{ProjectInput: slicetest.In, ID: kept.ID}
	_, err = s.DropView(ctx, who, drop)
	require.True(t, api.Is(err, api.NotFound))
	ctx, who = as("member")
	_, err = s.DropView(ctx, who, drop)
	require.NoError(t, err)
	require.Len(t, y.views, 1)
}
