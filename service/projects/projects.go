package projects

import (
	"context"
	"errors"

	"kembrel/api"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// defaultObjective judges the runs of a project that names none.
var defaultObjective = api.Objective{Curve: "loss.val", Direction: verdict.Lower}

// ListProjects lists projects by key.
func (s *Projects) ListProjects(ctx context.Context, who act.Who,
	in *api.ProjectsInput) (*api.Page[api.Project], error) {
	rows, err := s.db.ListProjects(ctx, who.Seen(), "", in.Shown, in.Cursor, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := act.Page(rows, in.Limit, func(p store.CountedProject) api.Project { return toProject(who, p) },
		func(p store.CountedProject) string { return p.Key })
	for i := range out.Items {
		if err := s.addBest(ctx, rows[i], &out.Items[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// GetProject shows one project.
func (s *Projects) GetProject(ctx context.Context, who act.Who, in *api.ProjectInput) (*api.Project, error) {
	if _, err := s.Project(ctx, in.Project); err != nil {
		return nil, err
	}
	rows, err := s.db.ListProjects(ctx, who.Seen(), in.Project, "", "", 1)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	out := toProject(who, rows[0])
	return &out, s.addBest(ctx, rows[0], &out)
}

func toProject(who act.Who, p store.CountedProject) api.Project {
	return api.Project{Key: p.Key, Title: p.Title, Objective: p.Objective, Created: p.Created, Runs: p.Runs,
		Running: p.Running, Lost: p.Lost, Baseline: p.Baseline, Archived: p.Archived,
		Open: p.Open, Role: who.On(p.Key, p.Open).String()}
}

func (s *Projects) addBest(ctx context.Context, row store.CountedProject, p *api.Project) error {
	o := row.Objective
	best, err := s.db.BestRun(ctx, row.ID, o.Direction == verdict.Lower)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	sums, err := s.db.Summaries(ctx, []int64{best.ID}, o.Curve)
	if err != nil || len(sums) == 0 {
		return err
	}
	if reading, ok := o.Best(sums[0].Core()); ok {
		p.BestRun, p.Best = best.Number, finding.Figure(o.Curve, reading)
	}
	return nil
}

// CreateProject makes a project. A key that is taken is a conflict.
func (s *Projects) CreateProject(ctx context.Context, who act.Who, in *api.NewProject) (*api.Project, error) {
	if err := api.CheckNewProjectKey(in.Body.Key); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if in.Body.Objective == (api.Objective{}) {
		in.Body.Objective = defaultObjective
	}
	if err := in.Body.Objective.Check(); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	err := s.db.InTx(ctx, func(q Tx) error {
		id, made, err := q.AddProject(ctx, in.Body.Key, in.Body.Title, in.Body.Objective, who.ID)
		if err != nil {
			return err
		}
		if !made {
			return api.Fail(api.Conflict, "there is a project %q already", in.Body.Key)
		}
		if err := q.SetRole(ctx, &id, &who.ID, nil, api.Owner.String()); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: in.Body.Key, Project: id,
			Person: who.ID, Verb: "created"})
	})
	if err != nil {
		return nil, err
	}
	s.ForgetPlaces()
	s.Live.News()
	return s.GetProject(ctx, who, &api.ProjectInput{Project: in.Body.Key})
}

// ChangeProject changes the title, the objective, whether everybody sees it, or whether it is out of the way.
func (s *Projects) ChangeProject(ctx context.Context, who act.Who, in *api.ProjectEdit) (*api.Project, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	if in.Body.Objective != nil {
		if err := in.Body.Objective.Check(); err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.ChangeProject(ctx, p.ID, store.ProjectChange{Title: in.Body.Title, Objective: in.Body.Objective,
			Open: in.Body.Open, Archived: in.Body.Archived}); err != nil {
			return err
		}
		if in.Body.Open != nil && !*in.Body.Open && !who.Administrator { // who closes it stays in
			if err := q.SetRole(ctx, &p.ID, &who.ID, nil, api.Owner.String()); err != nil {
				return err
			}
		}
		if in.Body.Objective != nil {
			if err := errors.Join(q.SetBest(ctx, p.ID), q.ForgetBest(ctx, p.ID)); err != nil {
				return err
			}
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: p.Key, Project: p.ID, Person: who.ID,
			Verb: "changed", Data: changes(in)})
	})
	if err != nil {
		return nil, err
	}
	s.ForgetPlaces()
	s.Live.News()
	return s.GetProject(ctx, who, &in.ProjectInput)
}

// DeleteProject deletes a project that has no run and no model, with what was set for it.
func (s *Projects) DeleteProject(ctx context.Context, who act.Who, in *api.ProjectInput) (*api.None, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		gone, err := q.DeleteProject(ctx, p.ID)
		if err == nil && !gone {
			err = api.Fail(api.Conflict, "project %s has runs, those about to be deleted included, or models, and stays; "+
				"archive it, or delete them first", p.Key)
		}
		if err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: p.Key, Project: p.ID, Person: who.ID,
			Verb: "deleted"})
	})
	if err != nil {
		return nil, err
	}
	s.ForgetPlaces()
	s.Live.News()
	return nil, nil
}

// SetBaseline says which run a project's others are held against; 0: none.
func (s *Projects) SetBaseline(ctx context.Context, who act.Who, in *api.BaselineInput) (*api.Project, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	if in.Body.Run != 0 {
		if _, err := s.RunID(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: in.Body.Run}); err != nil {
			return nil, err
		}
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.SetBaseline(ctx, p.ID, in.Body.Run); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: p.Key, Project: p.ID, Person: who.ID,
			Verb: "baseline-set", Data: map[string]any{"run": in.Body.Run}})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.GetProject(ctx, who, &in.ProjectInput)
}

// changes are what an edit changes, for its event.
func changes(in *api.ProjectEdit) map[string]any {
	out := map[string]any{}
	if in.Body.Title != nil {
		out["title"] = *in.Body.Title
	}
	if in.Body.Objective != nil {
		out["objective"] = *in.Body.Objective
	}
	if in.Body.Open != nil {
		out["open"] = *in.Body.Open
	}
	if in.Body.Archived != nil {
		out["archived"] = *in.Body.Archived
	}
	return out
}
