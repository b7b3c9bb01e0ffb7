package entering

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/service/act"
	"kembrel/store"
)

const (
	// lookBack is how long after its end a run may come to fulfil a rule: by an evaluation, a tag, a mark.
	lookBack = "7d"
	// settling is how long runs are looked at again after something has happened: an event may be overtaken by a
	// later one, and a checkpoint come behind the end of its run.
	settling = time.Minute
	// behind is how many events of other projects a rule is left behind at most.
	behind = 1000
)

// EnterByRules looks at the runs that ended in projects in which something happened. It may run twice at once without
// harm: a checkpoint enters a model once.
func (s *Entering) EnterByRules(ctx context.Context) error {
	rows, err := s.db.ListEnterings(ctx, "")
	if err != nil {
		return err
	}
	for _, row := range rows {
		now := time.Now()
		var heard *time.Time
		switch {
		case row.Latest > 0:
			heard = &now
		case row.Heard != nil && now.Sub(*row.Heard) < settling:
		case row.Newest-row.Event > behind:
			if err := s.db.Looked(ctx, row.ID, row.Newest, nil, row.Trouble); err != nil {
				return err
			}
			continue
		default:
			continue
		}
		trouble, err := s.look(ctx, row)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // one rule keeps no other from working
			s.Log.Warn("a rule of the catalogue did not work", "model", row.ModelName, "rule", row.Number, "err", err)
			trouble = api.TroubleFault
		}
		if err := s.db.Looked(ctx, row.ID, row.Newest, heard, string(trouble)); err != nil {
			return err
		}
	}
	return nil
}

// author is in whose name a rule acts; false: they may not, any more.
func (s *Entering) author(ctx context.Context, row store.Entering) (context.Context, act.Who, bool, error) {
	p, err := s.db.PersonByID(ctx, row.Person)
	if err != nil {
		return ctx, act.Who{}, false, err
	}
	roles, err := s.db.PersonRoles(ctx, row.Person)
	if err != nil {
		return ctx, act.Who{}, false, err
	}
	who := act.Who{ID: p.ID, Name: p.Name, Administrator: p.Administrator, Machine: p.Kind == "machine"}.With(roles)
	ctx = act.As(ctx, who, "")
	if p.Closed != nil {
		return ctx, who, false, nil
	}
	role, err := s.RoleOn(ctx, row.Project)
	return ctx, who, role >= api.Member, err
}

// look looks at the runs that a rule has not seen since they ended.
func (s *Entering) look(ctx context.Context, row store.Entering) (api.RuleTrouble, error) {
	ctx, who, may, err := s.author(ctx, row)
	if err != nil || !may {
		return api.TroubleAuthor, err
	}
	m, err := s.models.GetModel(ctx, who, &api.ModelInput{Model: row.ModelName})
	if err != nil {
		return "", err
	}
	r := rule(row)
	if r.Ask != "" && !hasStanding(m, r.Ask) {
		return api.TroubleStanding, nil
	}
	j := s.judge(who, m, r)
	runs, err := j.ended(ctx, fmt.Sprintf(`ended >= timestamp(%q) && ended > ago(%q)`,
		row.Created.UTC().Format(time.RFC3339Nano), lookBack))
	if api.Is(err, api.Invalid) {
		return api.TroubleFilter, nil
	}
	if err != nil || len(runs) == 0 {
		return "", err
	}
	numbers := make([]int, len(runs))
	for i, run := range runs {
		numbers[i] = run.Number
	}
	done, err := s.db.ListEnteringRuns(ctx, []int64{row.ID}, numbers, len(numbers))
	if err != nil {
		return "", err
	}
	seen := map[int]store.EnteringRun{}
	for _, d := range done {
		seen[d.Run] = d
	}
	var failed error
	for _, run := range runs {
		d, known := seen[run.Number]
		if known && !run.Ended.After(d.Ended) && d.Fate != string(catalogue.NoCheckpoint) {
			continue
		}
		if err := s.enter(ctx, who, j, row, run); err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", run.Address, err))
		}
	}
	return "", failed
}

// enter judges a run, enters its checkpoint where the rule says so, and keeps what became of it.
func (s *Entering) enter(ctx context.Context, who act.Who, j *judge, row store.Entering, run api.Run) error {
	inUse := leading(j.model).Edition
	var since []stood
	for _, e := range j.model.Latest {
		v, known := e.Facts.Figures[run.Objective.Curve]
		if e.Number > inUse && known && e.Facts.Run != run.Address {
			since = append(since, stood{float64(v), e.Facts.Objective, e.Facts.Data[split(run.Objective)]})
		}
	}
	got, err := j.run(ctx, run, inUse, since)
	if err != nil {
		return err
	}
	for _, e := range j.model.Latest {
		if got.Origin != "" && e.Origin == got.Origin {
			got.Fate, got.Edition = catalogue.InAlready, e.Number
		}
	}
	if got.Fate == catalogue.Enters {
		if err := s.add(ctx, who, j, row, &got); err != nil {
			return err
		}
	}
	said, err := json.Marshal(got)
	if err != nil {
		return err
	}
	return s.db.PutEnteringRun(ctx, store.EnteringRun{Entering: row.ID, Run: run.Number, Ended: got.Ended,
		Fate: string(got.Fate), Said: said})
}

// add enters a checkpoint, and asks that it gets its standing.
func (s *Entering) add(ctx context.Context, who act.Who, j *judge, row store.Entering, got *api.RuleRun) error {
	model := api.ModelInput{Model: j.model.Name}
	in := &api.NewEdition{ModelInput: model}
	in.Body.Origin, in.Body.Why = got.Origin, fmt.Sprintf("By rule %d. %s", row.Number, sayRun(got))
	e, err := s.models.AddEdition(ctx, who, in)
	if err != nil {
		return err
	}
	got.Edition = e.Number
	if j.model, err = s.models.GetModel(ctx, who, &model); err != nil || j.rule.Ask == "" {
		return err
	}
	for _, a := range j.model.Waiting {
		if a.Standing != j.rule.Ask || a.Edition == e.Number {
			continue
		}
		ours, err := s.ours(ctx, row, a.Edition)
		if err != nil {
			return err
		}
		if !ours { // somebody's: it is decided first
			return nil
		}
		if _, err := s.models.EndAsking(ctx, who, &api.EndAskingInput{AskingInput: api.AskingInput{ModelInput: model,
			Asking: a.ID}, Why: fmt.Sprintf("By rule %d: #%d is better.", row.Number, e.Number)}); err != nil &&
			!api.Is(err, api.Conflict) {
			return err
		}
	}
	ask := &api.Ask{ModelInput: model, Standing: j.rule.Ask}
	ask.Body.Edition, ask.Body.Why = e.Number, in.Body.Why
	if _, err = s.models.AskFor(ctx, who, ask); api.Is(err, api.Conflict) {
		return nil // somebody was faster: it is decided first
	}
	return err
}

// ours reports whether a rule entered an edition.
func (s *Entering) ours(ctx context.Context, row store.Entering, edition int) (bool, error) {
	did, err := s.db.ListEnteringRuns(ctx, []int64{row.ID}, nil, mostRuns)
	if err != nil {
		return false, err
	}
	for _, d := range did {
		var run api.RuleRun
		if json.Unmarshal(d.Said, &run) == nil && run.Edition == edition && run.Fate == catalogue.Enters {
			return true, nil
		}
	}
	return false, nil
}
