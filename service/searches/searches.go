package searches

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/google/uuid"
	lru "github.com/hashicorp/golang-lru/v2"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/space"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/store"
)

// CreateSearch makes a search, or answers the one made before with the same key.
func (s *Searches) CreateSearch(ctx context.Context, who act.Who, in *api.NewSearch) (*api.Search, error) {
	p, err := s.Project(ctx, in.Project)
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
		b.Command[i] = act.Clean(b.Command[i])
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		err := q.AddSearch(ctx, store.NewSearch{Project: p.ID, Person: who.ID, Key: in.Key, Title: act.Clean(b.Title),
			Strategy: b.Strategy, Space: act.Clean(b.Space), Seed: b.Seed, Budget: b.Budget, Command: b.Command})
		if err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "search", Subject: in.Project, Project: p.ID, Person: who.ID,
			Verb: "created", Data: map[string]any{"title": b.Title, "strategy": b.Strategy, "budget": b.Budget}})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	row, err := s.db.SearchByKey(ctx, in.Key)
	if err != nil {
		return nil, act.OrNotFound(err, "the search that this key made has been deleted")
	}
	if row.Project != p.ID {
		return nil, api.Fail(api.Conflict, "this key made a search of another project")
	}
	return s.toSearch(ctx, in.Project, p.Objective, row)
}

// ListSearches lists a project's searches, the newest first, without their trials.
func (s *Searches) ListSearches(ctx context.Context, _ act.Who, in *api.SearchesInput) (*api.Page[api.Search], error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	below, err := act.CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListSearches(ctx, p.ID, below, in.Shown, in.Limit+1)
	if err != nil {
		return nil, err
	}
	numbers := make([]int, len(rows))
	for i, row := range rows {
		numbers[i] = row.Number
	}
	sums, err := s.db.SearchSums(ctx, p.ID, numbers, p.Objective.Direction == verdict.Lower)
	if err != nil {
		return nil, err
	}
	bySearch := map[int]store.SearchSum{}
	for _, sum := range sums {
		bySearch[sum.Search] = sum
	}
	var failed error
	out := act.Page(rows, in.Limit, func(row store.Search) api.Search {
		one, err := s.counted(in.Project, row)
		if err != nil {
			failed = err
			return api.Search{}
		}
		one.Says = saySearch(in.Project, row.Budget, one.Count, bySearch[row.Number])
		return *one
	}, func(row store.Search) string { return fmt.Sprint(row.Number) })
	return out, failed
}

// Search finds a search and its project.
func (s *Searches) Search(ctx context.Context, in *api.SearchInput) (store.Project, store.Search, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return p, store.Search{}, err
	}
	row, err := s.db.SearchByNumber(ctx, p.ID, in.Number)
	return p, row, act.OrNotFound(err, "there is no search %d in %s; kembrel searches %s lists them", in.Number,
		in.Project, in.Project)
}

// GetSearch shows a search with its trials.
func (s *Searches) GetSearch(ctx context.Context, _ act.Who, in *api.SearchInput) (*api.Search, error) {
	p, row, err := s.Search(ctx, in)
	if err != nil {
		return nil, err
	}
	return s.toSearch(ctx, in.Project, p.Objective, row)
}

// ArchiveSearch takes a search out of the list, or puts it back.
func (s *Searches) ArchiveSearch(ctx context.Context, who act.Who, in *api.SearchArchiveInput) (*api.Search, error) {
	verb := "archived"
	if !in.Body.Archived {
		verb = "unarchived"
	}
	if err := s.alterSearch(ctx, who, &in.SearchInput, act.Did{Verb: verb}, func(q Tx, project int64) error {
		return q.ArchiveSearch(ctx, project, in.Number, in.Body.Archived)
	}); err != nil {
		return nil, err
	}
	return s.GetSearch(ctx, who, &in.SearchInput)
}

// DeleteSearch deletes a search. Its runs stay, as runs of their own.
func (s *Searches) DeleteSearch(ctx context.Context, who act.Who, in *api.SearchInput) (*api.None, error) {
	return nil, s.alterSearch(ctx, who, in, act.Did{Verb: "deleted"},
		func(q Tx, project int64) error { return q.DeleteSearch(ctx, project, in.Number) })
}

func (s *Searches) alterSearch(ctx context.Context, who act.Who, in *api.SearchInput, did act.Did,
	do func(q Tx, project int64) error) error {
	p, _, err := s.Search(ctx, in)
	if err != nil {
		return err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := do(q, p.ID); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "search", Subject: fmt.Sprintf("%s search %d", in.Project, in.Number),
			Project: p.ID, Person: who.ID, Verb: did.Verb, Data: did.Data})
	})
	s.Live.News()
	return err
}

// ChangeSearch changes how many trials a search has.
func (s *Searches) ChangeSearch(ctx context.Context, who act.Who, in *api.SearchEdit) (*api.Search, error) {
	if err := s.alterSearch(ctx, who, &in.SearchInput, act.Did{Verb: "budget-set",
		Data: map[string]any{"budget": in.Body.Budget}}, func(q Tx, project int64) error {
		return q.SetBudget(ctx, project, in.Number, in.Body.Budget)
	}); err != nil {
		return nil, err
	}
	return s.GetSearch(ctx, who, &in.SearchInput)
}

// picking is all that settings depend on.
type picking struct {
	strategy, space string
	seed            int64
	budget          int
}

func pickingOf(row store.Search) picking {
	return picking{row.Strategy, row.Space, row.Seed, row.Budget}
}

// counted is a search as far as its row says, with how many trials it has.
func (s *Searches) counted(project string, row store.Search) (*api.Search, error) {
	key := pickingOf(row)
	out, err := rowSearch(project, row)
	if n, known := s.counts.Get(key); err == nil && known {
		out.Count = n
		return out, nil
	}
	out, settings, err := s.Settings(project, row)
	if err == nil {
		s.counts.Put(key, len(settings))
	}
	return out, err
}

// Settings is a search as far as its row says, and the settings of its trials.
func (s *Searches) Settings(project string, row store.Search) (*api.Search, []space.Setting, error) {
	out, err := rowSearch(project, row)
	if err != nil {
		return nil, nil, err
	}
	key := pickingOf(row)
	if settings, known := s.picked.Get(key); known {
		out.Count = len(settings)
		return out, settings, nil
	}
	sp, err := space.Parse([]byte(row.Space))
	if err != nil {
		return nil, nil, fmt.Errorf("space of search %d: %w", row.Number, err)
	}
	settings, err := sp.Pick(row.Strategy, uint64(row.Seed), row.Budget)
	if err != nil {
		return nil, nil, fmt.Errorf("space of search %d: %w", row.Number, err)
	}
	s.picked.Add(key, settings)
	out.Count = len(settings)
	return out, settings, nil
}

// mostPicked is of how many searches the settings are remembered: some megabytes each for 10,000 trials.
const mostPicked = 4

func newPicked() *lru.Cache[picking, []space.Setting] {
	c, err := lru.New[picking, []space.Setting](mostPicked)
	if err != nil {
		panic(err) // the size is constant
	}
	return c
}

func rowSearch(project string, row store.Search) (*api.Search, error) {
	out := &api.Search{Project: project, Number: row.Number, Title: row.Title, Strategy: row.Strategy, Space: row.Space,
		Seed: row.Seed, Budget: row.Budget, Who: row.Who, Started: row.Started, Archived: row.Archived != nil}
	return out, json.Unmarshal(row.Command, &out.Command)
}

func (s *Searches) toSearch(ctx context.Context, project string, o verdict.Objective,
	row store.Search) (*api.Search, error) {
	out, settings, err := s.Settings(project, row)
	if err != nil {
		return nil, err
	}
	known, err := s.db.Trials(ctx, row.Project, []int{row.Number})
	if err != nil {
		return nil, err
	}
	byTrial := map[int]store.Trial{}
	for _, t := range known {
		byTrial[t.Trial] = t
	}
	sum := store.SearchSum{}
	for i, setting := range settings {
		trial := api.Trial{Number: i + 1, Setting: make(map[string]json.RawMessage, len(setting))}
		for _, v := range setting {
			trial.Setting[v.Name] = v.Value
		}
		if t, ok := byTrial[trial.Number]; ok {
			trial.Run, trial.State, trial.Started, trial.Ended, trial.Took, trial.Done = t.Number, t.State, &t.Started,
				t.Ended, t.Took, t.Done
			if trial.Done {
				sum.Done++
			}
			switch t.State {
			case "running":
				sum.Running++
			case "failed":
				sum.Failed++
			case "lost":
				sum.Lost++
			}
			if t.Best != nil {
				trial.Best = (*api.Float)(t.Best)
				if sum.Best == nil || (*t.Best < *sum.Best) == (o.Direction == verdict.Lower) && *t.Best != *sum.Best {
					sum.Best, sum.BestRun, sum.BestTrial = t.Best, &t.Number, &t.Trial
				}
			}
		}
		out.Trials = append(out.Trials, trial)
	}
	out.Says = saySearch(project, row.Budget, len(settings), sum)
	return out, nil
}

// saySearch says how far a search is.
func saySearch(project string, budget, trials int, sum store.SearchSum) string {
	says := fmt.Sprintf("%d of %s done", sum.Done, act.Many(trials, "trial is", "trials are"))
	for _, s := range []struct {
		n     int
		state string
	}{{sum.Running, "running"}, {sum.Failed, "failed"}, {sum.Lost, "lost"}} {
		if s.n > 0 {
			says += fmt.Sprintf(", %d %s", s.n, s.state)
		}
	}
	if sum.Best != nil {
		says += fmt.Sprintf("; best so far %s by %s (trial %d)", curve.Number(*sum.Best),
			act.RunAddress(project, *sum.BestRun), *sum.BestTrial)
	}
	says += "."
	if trials < budget {
		says += fmt.Sprintf(" The space has no more than %s.", act.Many(trials, "setting", "settings"))
	}
	return says
}
