package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/space"
	"kembrel/core/verdict"
	"kembrel/store/pg"
)

// MakeSearch makes a search, or answers the one made before with the same key.
func (s *Service) MakeSearch(ctx context.Context, who Who, in *api.NewSearch) (*api.Search, error) {
	p, o, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "Idempotency-Key %.60q is not a UUID", in.Key)
	}
	b := in.Body
	sp, err := space.Parse([]byte(b.Space))
	if err == nil {
		err = sp.CheckCommand(b.Command)
	}
	if err == nil {
		_, err = sp.Pick(b.Strategy, uint64(b.Seed), 1)
	}
	if err != nil {
		return nil, api.Fail(api.Invalid, "the space: %v", err)
	}
	for i := range b.Command {
		b.Command[i] = clean(b.Command[i])
	}
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		err := q.AddSearch(ctx, pg.NewSearch{Project: p.ID, Person: who.ID, Key: in.Key, Title: clean(b.Title), Strategy: b.Strategy, Space: clean(b.Space), Seed: b.Seed, Budget: b.Budget, Command: b.Command})
		if err != nil {
			return err
		}
		return q.AddEvent(ctx, pg.Event{Kind: "project", Project: p.ID, Person: who.ID, What: "search begun"})
	})
	if err != nil {
		return nil, err
	}
	s.live.news()
	row, err := s.db.SearchByKey(ctx, in.Key)
	if err != nil {
		return nil, err
	}
	if row.Project != p.ID {
		return nil, api.Fail(api.Conflict, "this key made a search of another project")
	}
	return s.toSearch(ctx, in.Project, o, row)
}

// ListSearches lists a project's searches, the newest first.
func (s *Service) ListSearches(ctx context.Context, _ Who, in *api.ProjectInput) (*api.Page[api.Search], error) {
	p, o, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Searches(ctx, p.ID, 0)
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.Search]{Items: []api.Search{}}
	for _, row := range rows {
		one, err := s.toSearch(ctx, in.Project, o, row)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *one)
	}
	return out, nil
}

// GetSearch shows a search with its trials.
func (s *Service) GetSearch(ctx context.Context, _ Who, in *api.SearchInput) (*api.Search, error) {
	p, o, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Searches(ctx, p.ID, in.Number)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, api.Fail(api.NotFound, "there is no search %d in %s; kembrel searches %s lists them", in.Number, in.Project, in.Project)
	}
	return s.toSearch(ctx, in.Project, o, rows[0])
}

// ChangeSearch changes how many trials a search has.
func (s *Service) ChangeSearch(ctx context.Context, who Who, in *api.SearchEdit) (*api.Search, error) {
	if _, err := s.GetSearch(ctx, who, &in.SearchInput); err != nil {
		return nil, err
	}
	p, _, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	if err := s.db.SetBudget(ctx, p.ID, in.Number, in.Body.Budget); err != nil {
		return nil, err
	}
	return s.GetSearch(ctx, who, &in.SearchInput)
}

func (s *Service) toSearch(ctx context.Context, project string, o verdict.Objective, row pg.Search) (*api.Search, error) {
	out := &api.Search{Project: project, Number: row.Number, Title: row.Title, Strategy: row.Strategy, Space: row.Space, Seed: row.Seed, Budget: row.Budget, Who: row.Who, Started: row.Started, Trials: []api.Trial{}}
	if err := json.Unmarshal(row.Command, &out.Command); err != nil {
		return nil, err
	}
	sp, err := space.Parse([]byte(row.Space))
	if err != nil {
		return nil, fmt.Errorf("space of search %d: %w", row.Number, err)
	}
	settings, err := sp.Pick(row.Strategy, uint64(row.Seed), row.Budget)
	if err != nil {
		return nil, fmt.Errorf("space of search %d: %w", row.Number, err)
	}
	known, err := s.db.Trials(ctx, row.Project, []int{row.Number})
	if err != nil {
		return nil, err
	}
	byTrial := map[int]pg.Trial{}
	for _, t := range known {
		byTrial[t.Trial] = t
	}
	done, states, best := 0, map[string]int{}, pg.Trial{}
	for i, setting := range settings {
		trial := api.Trial{Number: i + 1, Setting: map[string]json.RawMessage{}}
		for _, v := range setting {
			trial.Setting[v.Name] = v.Value
		}
		if t, ok := byTrial[trial.Number]; ok {
			trial.Run, trial.State, trial.Started, trial.Ended, trial.Took = t.Number, t.State, &t.Started, t.Ended, t.Took
			trial.Done = t.State == "finished" || t.State == "stopped" || t.State == "failed" && t.Signal == ""
			if trial.Done {
				done++
			}
			states[t.State]++
			if t.Best != nil {
				trial.Best = (*api.Float)(t.Best)
				if best.Best == nil || (*t.Best < *best.Best) == (o.Direction == verdict.Lower) && *t.Best != *best.Best {
					best = t
				}
			}
		}
		out.Trials = append(out.Trials, trial)
	}
	out.Says = fmt.Sprintf("%d of %d trials are done", done, len(settings))
	for _, state := range []string{"running", "failed", "lost"} {
		if states[state] > 0 {
			out.Says += fmt.Sprintf(", %d %s", states[state], state)
		}
	}
	if best.Best != nil {
		out.Says += fmt.Sprintf("; best so far %s by %s (trial %d)", curve.Number(*best.Best), runAddress(project, best.Number), best.Trial)
	}
	out.Says += "."
	if len(settings) < row.Budget {
		out.Says += fmt.Sprintf(" The space has no more than %d settings.", len(settings))
	}
	out.Says = strings.ReplaceAll(out.Says, "of 1 trials are", "of 1 trial is")
	return out, nil
}
