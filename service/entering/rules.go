package entering

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/store"
)

const (
	mostRules = 20 // of a model
	mostShown = 50 // runs that a rule made something of
)

// sayRule says a rule.
func sayRule(r catalogue.Entering) string {
	what := "A run"
	if r.Where != "" {
		what = "A run with " + r.Where
	}
	by := "beyond the noise between seeds"
	if r.Margin != nil {
		by = "by more than " + curve.Number(*r.Margin)
	}
	text := fmt.Sprintf("%s enters when its %s checkpoint is better than the edition in use %s", what, r.Checkpoint, by)
	if !r.Each {
		text += ", and than all that were entered since"
	}
	if r.Ask != "" {
		text += "; it is asked for " + r.Ask
	}
	return text + "."
}

func rule(row store.Entering) catalogue.Entering {
	return catalogue.Entering{Where: row.Filter, Checkpoint: row.Checkpoint, Margin: row.Margin, Ask: row.Ask,
		Each: row.Each}
}

// idle says why a rule does nothing.
var idle = map[api.RuleTrouble]string{
	api.TroubleAuthor:   "It does nothing: whoever made it may not enter editions any more.",
	api.TroubleStanding: "It does nothing: the model has no such standing any more.",
	api.TroubleFilter:   "It does nothing: its filter cannot be asked any more.",
	api.TroubleFault:    "It did not work the last time; the service's log says why.",
}

func toRule(row store.Entering) api.EnteringRule {
	return api.EnteringRule{Number: row.Number, Entering: rule(row), Who: row.Who, Created: row.Created,
		Trouble: api.RuleTrouble(row.Trouble), Idle: idle[api.RuleTrouble(row.Trouble)],
		Says: sayRule(rule(row)), Did: []api.RuleRun{}}
}

// ListRules lists those of a model.
func (s *Entering) ListRules(ctx context.Context, who act.Who,
	in *api.ModelInput) (*api.Page[api.EnteringRule], error) {
	rows, err := s.db.ListEnterings(ctx, in.Model)
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.EnteringRule]{Items: make([]api.EnteringRule, len(rows))}
	for i, row := range rows {
		out.Items[i] = toRule(row)
		did, err := s.db.ListEnteringRuns(ctx, []int64{row.ID}, nil, mostShown)
		if err != nil {
			return nil, err
		}
		for _, d := range did {
			var shown api.RuleRun
			if err := json.Unmarshal(d.Said, &shown); err != nil {
				return nil, err
			}
			shown.Says = sayRun(&shown)
			out.Items[i].Did = append(out.Items[i].Did, shown)
		}
	}
	return out, nil
}

// check says what is wrong with a rule.
func (s *Entering) check(ctx context.Context, who act.Who, in *api.NewRule) (*api.Model, error) {
	m, err := s.models.GetModel(ctx, who, &in.ModelInput)
	if err != nil {
		return nil, err
	}
	r := &in.Body
	if r.Checkpoint == "" {
		r.Checkpoint = "best"
	}
	if r.Margin != nil && !(*r.Margin >= 0 && *r.Margin < 1e300) {
		return nil, api.Fail(api.Invalid, "a margin is a number from 0 on, in the objective's unit")
	}
	if r.Ask != "" && !hasStanding(m, r.Ask) {
		return nil, api.Fail(api.Invalid, "%s has no standing %.40q", m.Name, r.Ask)
	}
	_, err = s.runs.ListRuns(ctx, who, &api.RunsInput{ProjectInput: api.ProjectInput{Project: m.Project},
		RunChoice: api.RunChoice{Where: r.Where}, PageInput: api.PageInput{Limit: 1}})
	return m, err
}

func hasStanding(m *api.Model, name string) bool {
	return slices.ContainsFunc(m.Standings, func(st api.Standing) bool { return st.Name == name })
}

// AddRule makes a rule. It looks at runs that end from now on.
func (s *Entering) AddRule(ctx context.Context, who act.Who, in *api.NewRule) (*api.EnteringRule, error) {
	m, err := s.check(ctx, who, in)
	if err != nil {
		return nil, err
	}
	before, err := s.db.ListEnterings(ctx, m.Name)
	if err == nil && len(before) >= mostRules {
		err = api.Fail(api.Conflict, "%s has %d rules, and may have no more", m.Name, len(before))
	}
	if err != nil {
		return nil, err
	}
	project, err := s.runs.Project(ctx, m.Project)
	if err != nil {
		return nil, err
	}
	r, number := in.Body, 0
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.LockEnterings(ctx, m.Name); err != nil {
			return err
		}
		number, err = q.AddEntering(ctx, store.Entering{ModelName: m.Name, Filter: r.Where, Checkpoint: r.Checkpoint,
			Margin: r.Margin, Ask: r.Ask, Each: r.Each, Person: who.ID})
		if err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "model", Verb: "rule-set", Subject: m.Name, Project: project.ID,
			Person: who.ID, Data: map[string]any{"rule": number, "text": sayRule(r)}})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	row, err := s.find(ctx, m.Name, number)
	if err != nil {
		return nil, err
	}
	out := toRule(row)
	return &out, nil
}

// ClearRule ends a rule. What it did stays.
func (s *Entering) ClearRule(ctx context.Context, who act.Who, in *api.RuleOfModel) (*api.None, error) {
	row, err := s.find(ctx, in.Model, in.Rule)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if done, err := q.ClearEntering(ctx, row.ID); err != nil || !done {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "model", Verb: "rule-cleared", Subject: in.Model,
			Project: row.ProjectID, Person: who.ID, Data: map[string]any{"rule": row.Number}})
	})
	if err == nil {
		s.Live.News()
	}
	return nil, err
}

func (s *Entering) find(ctx context.Context, model string, number int) (store.Entering, error) {
	rows, err := s.db.ListEnterings(ctx, model)
	if err != nil {
		return store.Entering{}, err
	}
	for _, row := range rows {
		if row.Number == number {
			return row, nil
		}
	}
	return store.Entering{}, api.Fail(api.NotFound, "%s has no rule %d", model, number)
}
