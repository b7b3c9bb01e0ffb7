package catalogue

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/plain"
	"kembrel/service/act"
	"kembrel/store"
)

// mostShown is how much of a model's history its page shows.
const mostShown = 200

func noModel(name string) error {
	return api.Fail(api.NotFound, "there is no model %q; kembrel catalogue lists them", name)
}

// AllowModel decides whether the person in ctx may call an operation on a model: by the roles of its project.
func (s *Catalogue) AllowModel(ctx context.Context, op api.Spec, model string) error {
	if who, _ := act.Asks(ctx); who.ID == 0 {
		return s.Allow(ctx, op, "", "")
	}
	if err := catalogue.CheckName("a model", model); err != nil {
		return api.Fail(api.Invalid, "%v", err)
	}
	project, err := s.db.ModelProject(ctx, model)
	if errors.Is(err, store.ErrNone) {
		return noModel(model)
	}
	if err == nil {
		err = s.Allow(ctx, op, project, "")
	}
	if api.Is(err, api.NotFound) {
		return noModel(model)
	}
	return err
}

// find finds a model that whoever asks sees.
func (s *Catalogue) find(ctx context.Context, who act.Who, name string) (store.Model, error) {
	found, err := s.db.ListModels(ctx, who.Seen(), name, "", 1)
	if err == nil && len(found) == 0 {
		err = noModel(name)
	}
	if err != nil {
		return store.Model{}, err
	}
	return found[0], nil
}

// ListModels lists models by name.
func (s *Catalogue) ListModels(ctx context.Context, who act.Who, in *api.PageInput) (*api.Page[api.Model], error) {
	rows, err := s.db.ListModels(ctx, who.Seen(), "", in.Cursor, in.Limit+1)
	if err != nil {
		return nil, err
	}
	shown, err := s.show(ctx, rows[:min(len(rows), in.Limit)])
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.Model]{Items: shown}
	if len(rows) > in.Limit {
		out.Next = rows[in.Limit-1].Name
	}
	return out, nil
}

// GetModel shows a model with its history.
func (s *Catalogue) GetModel(ctx context.Context, who act.Who, in *api.ModelInput) (*api.Model, error) {
	row, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	shown, err := s.show(ctx, []store.Model{row})
	if err != nil {
		return nil, err
	}
	out := &shown[0]
	holdings, err := s.db.ListHoldings(ctx, row.ID, "", mostShown)
	if err != nil {
		return nil, err
	}
	for _, h := range holdings {
		had := api.Holding{Standing: h.Standing, Edition: act.Deref(h.Edition), Since: h.Since, Until: h.Until,
			Who: h.Who,
			Why: h.Why}
		if err := json.Unmarshal(h.Signed, &had.SignOffs); err != nil {
			return nil, err
		}
		out.History = append(out.History, had)
	}
	all, err := s.askings(ctx, s.db, []int64{row.ID}, 0, false)
	if err != nil {
		return nil, err
	}
	for _, a := range all[row.ID] {
		if a.Ended != nil {
			out.Ended = append(out.Ended, a.Asking)
		}
	}
	page, err := s.ListEditions(ctx, who, &api.EditionsInput{ModelInput: *in, PageInput: api.PageInput{Limit: 100}})
	if err != nil {
		return nil, err
	}
	out.Latest = page.Items
	role, err := s.RoleOn(ctx, row.Project)
	if err != nil {
		return nil, err
	}
	approvers, err := s.db.Approvers(ctx, row.Project)
	out.May = &api.ModelMay{Enter: role >= api.Member, SignOff: role >= api.Approver, Change: role >= api.Owner,
		Approvers: append([]string{}, approvers...)}
	return out, err
}

// show shows models with their standings, what waits, and who uses them.
func (s *Catalogue) show(ctx context.Context, rows []store.Model) ([]api.Model, error) {
	out := make([]api.Model, len(rows))
	at, ids := map[int64]*api.Model{}, []int64{}
	for i, m := range rows {
		out[i] = api.Model{Name: m.Name, Title: m.Title, Purpose: m.Purpose, Limits: m.Limits,
			Contact: m.Contact, Project: m.Project, Who: m.Who,
			Created: m.Created, Editions: m.Editions, Standings: []api.Standing{}, Waiting: []api.Asking{},
			Consumers: []api.Consumer{}}
		at[m.ID], ids = &out[i], append(ids, m.ID)
	}
	standings, err := s.db.ListStandings(ctx, ids...)
	if err != nil {
		return nil, err
	}
	waiting, err := s.askings(ctx, s.db, ids, 0, true)
	if err != nil {
		return nil, err
	}
	consumers, err := s.db.ListConsumers(ctx, ids...)
	if err != nil {
		return nil, err
	}
	for _, row := range standings {
		st, err := s.standing(ctx, at[row.Model].Name, row)
		if err != nil {
			return nil, err
		}
		at[row.Model].Standings = append(at[row.Model].Standings, st)
	}
	for id, list := range waiting {
		for _, a := range list {
			at[id].Waiting = append(at[id].Waiting, a.Asking)
		}
	}
	used := map[int64][]int{} // editions that were in use, the latest first
	for _, c := range consumers {
		if _, known := used[c.Model]; !known {
			if used[c.Model], err = s.inUse(ctx, c.Model); err != nil {
				return nil, err
			}
		}
		at[c.Model].Consumers = append(at[c.Model].Consumers, api.Consumer{Where: c.Place, Edition: c.Number,
			Behind: slices.Index(used[c.Model], c.Number), Who: c.Who, Since: c.Since, Heard: c.Heard})
	}
	for i := range out {
		out[i].Says = sayModel(&out[i])
	}
	return out, nil
}

// leading is the standing that consumers are measured by.
func leading(standings []store.ModelStanding) string {
	names := make([]string, len(standings))
	for i, st := range standings {
		names[i] = st.Name
	}
	return catalogue.Leading(names)
}

// inUse are the numbers of the editions that had the leading standing, each once, the latest first.
func (s *Catalogue) inUse(ctx context.Context, model int64) (out []int, err error) {
	standings, err := s.db.ListStandings(ctx, model)
	if err != nil {
		return nil, err
	}
	holdings, err := s.db.ListHoldings(ctx, model, leading(standings), mostShown)
	for _, h := range holdings {
		if h.Edition != nil && !slices.Contains(out, *h.Edition) {
			out = append(out, *h.Edition)
		}
	}
	return out, err
}

// standing shows a standing with who has it.
func (s *Catalogue) standing(ctx context.Context, model string, row store.ModelStanding) (api.Standing, error) {
	out := api.Standing{Rule: rule(row), Since: row.Since, Who: row.Who, Why: row.Why,
		Address: catalogue.Address{Model: model, Standing: row.Name}.String()}
	if row.Signed != nil {
		if err := json.Unmarshal(row.Signed, &out.SignOffs); err != nil {
			return out, err
		}
	}
	if row.Seq > 1 {
		before, err := s.before(ctx, s.db, row)
		if err != nil {
			return out, err
		}
		out.Before = act.Deref(before)
	}
	if row.Edition == nil {
		return out, nil
	}
	e, err := s.db.Edition(ctx, row.Model, 0, *row.Edition)
	if err != nil {
		return out, err
	}
	shown, err := toEdition(model, e)
	if err != nil {
		return out, err
	}
	out.Edition, out.Origin, out.Figure = e.Number, e.Origin, sayFigure(&shown.Facts)
	return out, nil
}

// holdings lists who had a standing.
type holdings interface {
	ListHoldings(ctx context.Context, model int64, standing string, limit int) ([]store.Holding, error)
}

// before is the edition that had a standing before the one that has it now; nil: none.
func (s *Catalogue) before(ctx context.Context, q holdings, row store.ModelStanding) (*int, error) {
	list, err := q.ListHoldings(ctx, row.Model, row.Name, mostShown)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	for _, h := range list[1:] {
		if h.Edition != nil && act.Deref(h.Edition) != act.Deref(list[0].Edition) {
			return h.Edition, nil
		}
	}
	return nil, nil
}

func rule(row store.ModelStanding) catalogue.Rule {
	return catalogue.Rule{Name: row.Name, Approvers: row.Approvers, Checks: row.Checks, Reporters: row.Reporters}
}

// ruleFor is what a standing asks of an edition that somebody asks for: whoever lowered the rule is held to the one of
// before.
func ruleFor(row store.ModelStanding, person int64) catalogue.Rule {
	if row.LoweredBy == person {
		return rule(row).And(ruleIn(row.LoweredFrom))
	}
	return rule(row)
}

// ruleIn reads a rule as it was kept; nothing is no rule.
func ruleIn(text json.RawMessage) (r catalogue.Rule) {
	if text != nil {
		json.Unmarshal(text, &r) // of our own
	}
	return r
}

func ruleText(r catalogue.Rule) json.RawMessage {
	text, err := json.Marshal(r)
	if err != nil {
		panic(err) // of texts and numbers
	}
	return text
}

// checkRules says what is wrong with standings that a model is to have.
func checkRules(rules []catalogue.Rule) error {
	seen := map[string]bool{}
	for _, r := range rules {
		if err := catalogue.CheckName("a standing", r.Name); err != nil {
			return api.Fail(api.Invalid, "%v", err)
		}
		if r.Name == catalogue.Proposed {
			return api.Fail(api.Invalid,
				"%s is the standing of what waits for another one; it is there by itself", r.Name)
		}
		if seen[r.Name] {
			return api.Fail(api.Invalid, "two standings are called %s", r.Name)
		}
		seen[r.Name] = true
		for _, c := range r.Checks {
			if c == "" || plain.Line(c) != c || len(c) > 100 {
				return api.Fail(api.Invalid, "a check cannot be called %.60q", c)
			}
		}
	}
	return nil
}

// CreateModel makes a model.
func (s *Catalogue) CreateModel(ctx context.Context, who act.Who, in *api.NewModel) (*api.Model, error) {
	b := &in.Body
	if err := catalogue.CheckName("a model", b.Name); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if err := api.CheckProjectKey(b.Project); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	role, err := s.RoleOn(ctx, b.Project)
	if err == nil && role < api.Reader {
		err = act.NoProject(b.Project)
	}
	if err == nil {
		err = s.Need(ctx, api.Owner, b.Project)
	}
	if err != nil {
		return nil, err
	}
	rules := b.Standings
	if len(rules) == 0 {
		rules = []catalogue.Rule{{Name: "in-use", Approvers: 1}}
	}
	if err := checkRules(rules); err != nil {
		return nil, err
	}
	err = s.inTx(ctx, func(q Tx) error {
		id, project, err := q.AddModel(ctx, store.Model{Name: b.Name, Title: act.Clean(b.Title),
			Purpose: act.Clean(b.Purpose), Limits: act.Clean(b.Limits), Contact: act.Clean(b.Contact),
			Project: b.Project}, who.ID)
		if errors.Is(err, store.ErrNone) {
			return api.Fail(api.Conflict, "there is a model %s already, or was one that you do not see", b.Name)
		}
		if err != nil {
			return err
		}
		for i, r := range rules {
			if err := q.PutStanding(ctx, store.ModelStanding{Model: id, Name: r.Name, Approvers: r.Approvers,
				Checks: r.Checks, Reporters: r.Reporters}, i); err != nil {
				return err
			}
		}
		return s.event(ctx, q, who, store.Model{ID: id, Name: b.Name, ProjectID: project}, "created", b.Name, nil)
	})
	if err != nil {
		return nil, err
	}
	return s.GetModel(ctx, who, &api.ModelInput{Model: b.Name})
}

// inTx runs do in a transaction, and has what it did told.
func (s *Catalogue) inTx(ctx context.Context, do func(q Tx) error) error {
	err := s.db.InTx(ctx, do)
	if err == nil {
		s.Live.News()
	}
	return err
}

// event writes an event of a model's project.
func (s *Catalogue) event(ctx context.Context, q Tx, who act.Who, m store.Model, verb, subject string,
	data map[string]any) error {
	return s.Event(ctx, q, store.Event{Kind: "model", Verb: verb, Subject: subject, Project: m.ProjectID,
		Person: who.ID, Data: data})
}

// ChangeModel changes a model's text and its standings.
func (s *Catalogue) ChangeModel(ctx context.Context, who act.Who, in *api.ModelEdit) (*api.Model, error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	if err := checkRules(in.Body.Standings); err != nil {
		return nil, err
	}
	clean := func(text *string) *string {
		if text == nil {
			return nil
		}
		out := act.Clean(*text)
		return &out
	}
	err = s.inTx(ctx, func(q Tx) error {
		if err := q.LockModel(ctx, m.ID); err != nil {
			return err
		}
		if err := q.ChangeModel(ctx, m.ID, store.ModelTexts{Title: clean(in.Body.Title),
			Purpose: clean(in.Body.Purpose), Limits: clean(in.Body.Limits),
			Contact: clean(in.Body.Contact)}); err != nil {
			return err
		}
		said := map[string]any{}
		if len(in.Body.Standings) > 0 {
			before, err := s.changeStandings(ctx, q, who, m, in.Body.Standings)
			if err != nil {
				return err
			}
			said["standings"], said["standings_before"] = sayRules(in.Body.Standings), sayRules(before)
		}
		for name, text := range map[string]struct {
			is *string
			of string
		}{"title": {in.Body.Title, m.Title}, "purpose": {in.Body.Purpose, m.Purpose},
			"limits": {in.Body.Limits, m.Limits}, "contact": {in.Body.Contact, m.Contact}} {
			if text.is != nil && *text.is != text.of {
				said[name], said[name+"_before"] = clip(*text.is, auditText), clip(text.of, auditText)
			}
		}
		return s.event(ctx, q, who, m, "changed", m.Name, said)
	})
	if err != nil {
		return nil, err
	}
	return s.GetModel(ctx, who, &in.ModelInput)
}

func clip(text string, most int) string {
	if len(text) > most {
		return strings.ToValidUTF8(text[:most], "") + " ..."
	}
	return text
}

// auditText is how much of a text the audit shows, in bytes.
const auditText = 500

// changeStandings puts rules in place of those that are there, which it returns. What waits is held to the rule by
// which it was asked for where that is stricter, and so is what whoever lowers a rule asks for later.
func (s *Catalogue) changeStandings(ctx context.Context, q Tx, who act.Who, m store.Model,
	rules []catalogue.Rule) (old []catalogue.Rule, err error) {
	before, err := q.ListStandings(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	had := map[string]store.ModelStanding{}
	for _, row := range before {
		old, had[row.Name] = append(old, rule(row)), row
	}
	for _, old := range before {
		if slices.ContainsFunc(rules, func(r catalogue.Rule) bool { return r.Name == old.Name }) {
			continue
		}
		if gone, err := q.DropStanding(ctx, m.ID, old.Name); err != nil {
			return nil, err
		} else if !gone {
			return nil, api.Fail(api.Conflict, "the standing %s of %s has a history, so it stays; leave it in the list",
				old.Name, m.Name)
		}
	}
	for i, r := range rules {
		row := had[r.Name]
		was := rule(row)
		if row.LoweredBy == who.ID { // lowered in steps
			was = ruleFor(row, who.ID)
		}
		switch {
		case row.Name != "" && r.Lowers(was):
			row.LoweredBy, row.LoweredFrom = who.ID, ruleText(was)
		case rule(row).Lowers(r) || r.Lowers(rule(row)): // raised, or by another
			row.LoweredBy, row.LoweredFrom = 0, nil
		}
		row.Model, row.Name, row.Approvers, row.Checks, row.Reporters = m.ID, r.Name, r.Approvers, r.Checks, r.Reporters
		if err := q.PutStanding(ctx, row, i); err != nil {
			return nil, err
		}
	}
	_, err = s.settle(ctx, q, who, m)
	return old, err
}
