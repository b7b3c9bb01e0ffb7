package catalogue

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/service/act"
	"kembrel/store"
)

// waits is an asking with the ids behind it.
type waits struct {
	api.Asking
	row store.Asking
}

// reads lists what waits; in a transaction or not.
type reads interface {
	ListAskings(ctx context.Context, models []int64, id int64, waiting bool, limit int) ([]store.Asking, error)
	ListSignOffs(ctx context.Context, askings []int64) ([]store.SignOff, error)
	ListStandings(ctx context.Context, models ...int64) ([]store.ModelStanding, error)
	ListOutcomes(ctx context.Context, editions []int64) ([]store.EditionOutcome, error)
}

// askings shows what is or was asked for, by model; id: that one alone.
func (s *Catalogue) askings(ctx context.Context, q reads, models []int64, id int64,
	waiting bool) (map[int64][]waits, error) {
	rows, err := q.ListAskings(ctx, models, id, waiting, mostShown)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	ids, editions := make([]int64, len(rows)), make([]int64, len(rows))
	for i, a := range rows {
		ids[i], editions[i] = a.ID, a.Edition
	}
	signs, err := q.ListSignOffs(ctx, ids)
	if err != nil {
		return nil, err
	}
	checks, err := q.ListOutcomes(ctx, editions)
	if err != nil {
		return nil, err
	}
	standings, err := q.ListStandings(ctx, models...)
	if err != nil {
		return nil, err
	}
	out := map[int64][]waits{}
	for _, a := range rows {
		w := waits{row: a, Asking: api.Asking{ID: a.ID, Standing: a.Standing, Edition: a.Number, Who: a.Who, Why: a.Why,
			Asked: a.Asked, SignOffs: []api.SignOff{}, Ended: a.Ended, Outcome: a.Outcome, Ender: act.Deref(a.Ender),
			Because: a.Because}}
		var outcomes []catalogue.Outcome
		latest := int64(0)
		for _, c := range checks {
			if c.Edition == a.Edition {
				outcomes = append(outcomes, catalogue.Outcome{Name: c.Name, Who: c.Who, Passed: c.Passed})
				latest = max(latest, c.ID)
			}
		}
		var given []catalogue.Sign
		for _, so := range signs {
			if so.Asking != a.ID {
				continue
			}
			sign := catalogue.Sign{Person: so.Who, Upto: so.Upto, Current: so.Withdrawn == nil && !so.Closed && so.May}
			given = append(given, sign)
			shown := api.SignOff{Who: so.Who, Why: so.Why, At: so.At, Withdrawn: so.Withdrawn,
				Counts: sign.Counts(a.Who, latest)}
			switch {
			case shown.Counts:
			case so.Withdrawn != nil:
				shown.Not = "withdrawn"
			case so.Closed:
				shown.Not = "closed"
			case so.Who == a.Who:
				shown.Not = "own"
			case !so.May:
				shown.Not = "role"
			default:
				shown.Not = "checks"
			}
			w.SignOffs = append(w.SignOffs, shown)
		}
		i := slices.IndexFunc(standings,
			func(st store.ModelStanding) bool { return st.Model == a.Model && st.Name == a.Standing })
		if a.Ended == nil && i >= 0 {
			needs := ruleFor(standings[i], a.Person)
			needs = needs.And(ruleIn(a.Rule))
			w.Needs = &needs
			w.Lacks = catalogue.Lacks(needs, a.Who, given, outcomes, latest)
		}
		w.Says = sayAsking(&w.Asking)
		out[a.Model] = append(out[a.Model], w)
	}
	return out, nil
}

// settle gives editions that lack nothing any more the standing that they wait for, and reports whether it did. The
// model is locked.
func (s *Catalogue) settle(ctx context.Context, q Tx, who act.Who, m store.Model) (taken bool, err error) {
	all, err := s.askings(ctx, q, []int64{m.ID}, 0, true)
	for _, w := range all[m.ID] {
		if len(w.Lacks) > 0 {
			continue
		}
		if _, err := q.EndAsking(ctx, w.ID, "taken", who.ID, ""); err != nil {
			return taken, err
		}
		if err := s.give(ctx, q, who, m, w.Standing, &w.row, w.Why, &w.Asking); err != nil {
			return taken, err
		}
		taken = true
	}
	return taken, err
}

// give gives a standing to an edition; nil: to none.
func (s *Catalogue) give(ctx context.Context, q Tx, who act.Who, m store.Model, standing string, to *store.Asking,
	why string, asking *api.Asking) error {
	n := store.NewHolding{Model: m.ID, Standing: standing, Person: who.ID, Why: why}
	subject := catalogue.Address{Model: m.Name, Standing: standing}.String()
	data := map[string]any{"edition": 0}
	if to != nil {
		n.Edition, n.Person = &to.Edition, to.Person
		data["edition"] = to.Number
	}
	if asking != nil {
		n.Asking = &asking.ID
		signed, names := []api.Signed{}, []string{}
		for _, so := range asking.SignOffs {
			if so.Counts {
				signed, names = append(signed, api.Signed{Who: so.Who, Why: so.Why, At: so.At}), append(names, so.Who)
			}
		}
		text, err := json.Marshal(signed)
		if err != nil {
			return err
		}
		n.Signed = text
		if len(names) > 0 {
			data["signed_off_by"] = names
		}
	}
	if err := q.Hold(ctx, n); err != nil {
		return err
	}
	return s.event(ctx, q, who, m, "given", subject, data)
}

// standingOf finds a standing of a model.
func standingOf(ctx context.Context, q reads, m store.Model, name string) (store.ModelStanding, error) {
	all, err := q.ListStandings(ctx, m.ID)
	if err != nil {
		return store.ModelStanding{}, err
	}
	names := []string{}
	for _, st := range all {
		if st.Name == name {
			return st, nil
		}
		names = append(names, st.Name)
	}
	return store.ModelStanding{}, api.Fail(api.NotFound, "%s has no standing %.40q; it has: %s", m.Name, name,
		act.Few(names, 20))
}

// still refuses where another edition has a standing than whoever asks knows.
func (s *Catalogue) still(ctx context.Context, q Tx, m store.Model, st store.ModelStanding, insteadOf *int) error {
	if insteadOf == nil {
		return nil
	}
	has, who := 0, "nobody"
	if st.Edition != nil {
		e, err := q.Edition(ctx, m.ID, 0, *st.Edition)
		if err != nil {
			return err
		}
		has, who = e.Number, fmt.Sprintf("#%d, by %s since %s", e.Number, st.Who,
			st.Since.UTC().Format("2 January 15:04:05 MST"))
	}
	if has == *insteadOf {
		return nil
	}
	return api.Fail(api.Conflict, "meanwhile %s has the standing %s of %s; look at it, and ask again", who, st.Name,
		m.Name)
}

// onStanding does something with a standing while the model is locked, unless another edition has it than whoever asks
// knows. denied is why they may not decide of a guarded one; nil: they may. It is found out before, as a transaction
// waits for no other connection.
func (s *Catalogue) onStanding(ctx context.Context, m store.Model, standing string, insteadOf *int,
	do func(q Tx, st store.ModelStanding, denied error) error) error {
	denied := s.Need(ctx, api.Approver, m.Project)
	if denied != nil && !api.Is(denied, api.Denied) {
		return denied
	}
	return s.inTx(ctx, func(q Tx) error {
		if err := q.LockModel(ctx, m.ID); err != nil {
			return err
		}
		st, err := standingOf(ctx, q, m, standing)
		if err == nil {
			err = s.still(ctx, q, m, st, insteadOf)
		}
		if err != nil {
			return err
		}
		return do(q, st, denied)
	})
}

// AskFor asks that an edition gets a standing, or that none has it any more.
func (s *Catalogue) AskFor(ctx context.Context, who act.Who, in *api.Ask) (*api.Asked, error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	var row store.Edition
	if in.Body.Edition > 0 {
		if _, row, err = s.edition(ctx, who, api.EditionInput{ModelInput: in.ModelInput,
			Edition: in.Body.Edition}); err != nil {
			return nil, err
		}
	}
	out := &api.Asked{}
	err = s.onStanding(ctx, m, in.Standing, in.Body.InsteadOf, func(q Tx, st store.ModelStanding, denied error) error {
		if row.ID != 0 && act.Deref(st.Edition) == row.ID {
			out.Taken = true
			out.Says = fmt.Sprintf("%s#%d has the standing %s already.", m.Name, row.Number, st.Name)
			return nil
		}
		needs := ruleFor(st, who.ID)
		ask := store.Asking{Model: m.ID, Standing: st.Name, Edition: row.ID, Number: row.Number, Person: who.ID,
			Why: act.Clean(in.Body.Why), Rule: ruleText(rule(st))}
		switch {
		case row.ID == 0 && st.Edition == nil:
			return api.Fail(api.Conflict, "nobody has the standing %s of %s", st.Name, m.Name)
		case row.ID == 0:
			if needs.Approvers > 0 && denied != nil {
				return denied
			}
			out.Taken, out.Says = true, fmt.Sprintf("Nobody has the standing %s of %s any more.", st.Name, m.Name)
			return s.give(ctx, q, who, m, st.Name, nil, ask.Why, nil)
		case needs.Approvers == 0 && len(needs.Checks) == 0:
			out.Taken = true
			out.Says = fmt.Sprintf("%s#%d has the standing %s.", m.Name, row.Number, st.Name)
			return s.give(ctx, q, who, m, st.Name, &ask, ask.Why, nil)
		}
		return s.wait(ctx, q, who, m, ask, out)
	})
	return out, err
}

// wait has an edition wait for a standing, unless it lacks nothing.
func (s *Catalogue) wait(ctx context.Context, q Tx, who act.Who, m store.Model, ask store.Asking,
	out *api.Asked) error {
	waiting, err := q.ListAskings(ctx, []int64{m.ID}, 0, true, mostShown)
	if err != nil {
		return err
	}
	for _, a := range waiting {
		if a.Standing != ask.Standing {
			continue
		}
		if a.Edition != ask.Edition {
			return api.Fail(api.Conflict,
				"%s asked that #%d gets the standing %s, and that waits still; withdraw it first, or let it be decided",
				a.Who, a.Number, a.Standing)
		}
		return s.tell(ctx, q, m, a.ID, out)
	}
	id, err := q.AddAsking(ctx, ask)
	if err != nil {
		return err
	}
	if err := s.event(ctx, q, who, m, "asked", catalogue.Address{Model: m.Name, Standing: ask.Standing}.String(),
		map[string]any{"edition": ask.Number}); err != nil {
		return err
	}
	if out.Taken, err = s.settle(ctx, q, who, m); err != nil {
		return err
	}
	return s.tell(ctx, q, m, id, out)
}

// tell says what an asking has come to.
func (s *Catalogue) tell(ctx context.Context, q Tx, m store.Model, id int64, out *api.Asked) error {
	all, err := s.askings(ctx, q, []int64{m.ID}, id, false)
	if err != nil {
		return err
	}
	if len(all[m.ID]) == 0 {
		return store.ErrNone
	}
	w := all[m.ID][0]
	out.Asking, out.Taken = &w.Asking, w.Outcome == "taken"
	out.Says = fmt.Sprintf("%s#%d: %s", m.Name, w.Edition, w.Says)
	return nil
}

// decide finds an asking that waits and does something with it, while the model is locked.
func (s *Catalogue) decide(ctx context.Context, who act.Who, in api.AskingInput,
	do func(q Tx, m store.Model, w waits) error) (*api.Asked, error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	out := &api.Asked{}
	err = s.inTx(ctx, func(q Tx) error {
		if err := q.LockModel(ctx, m.ID); err != nil {
			return err
		}
		all, err := s.askings(ctx, q, []int64{m.ID}, in.Asking, false)
		if err != nil {
			return err
		}
		if len(all[m.ID]) == 0 {
			return api.Fail(api.NotFound, "%s was never asked for that (%d)", m.Name, in.Asking)
		}
		w := all[m.ID][0]
		if w.Ended != nil {
			return api.Fail(api.Conflict, "%s#%d: %s", m.Name, w.Edition, w.Says)
		}
		if err := do(q, m, w); err != nil {
			return err
		}
		return s.tell(ctx, q, m, in.Asking, out)
	})
	return out, err
}

// AddSignOff signs off. The last one that was wanted gives the standing.
func (s *Catalogue) AddSignOff(ctx context.Context, who act.Who, in *api.SignOffInput) (*api.Asked, error) {
	return s.decide(ctx, who, in.AskingInput, func(q Tx, m store.Model, w waits) error {
		if w.Edition != in.Body.Edition {
			return api.Fail(api.Conflict, "it is #%d that waits for %s, not #%d", w.Edition, w.Standing,
				in.Body.Edition)
		}
		if w.row.Person == who.ID {
			return api.Fail(api.Denied, "%s asked for it, and whoever asks does not sign off", who.Name)
		}
		if who.Machine {
			return api.Fail(api.Denied, "%s is a machine; people sign off", who.Name)
		}
		checks, err := q.ListOutcomes(ctx, []int64{w.row.Edition})
		if err != nil {
			return err
		}
		sign := store.SignOff{Asking: w.ID, Person: who.ID, Why: act.Clean(in.Body.Why)}
		for _, c := range checks {
			sign.Upto = max(sign.Upto, c.ID)
		}
		if err := q.PutSignOff(ctx, sign); err != nil {
			return err
		}
		if err := s.event(ctx, q, who, m, "signed-off", addressOf(m, w.Edition),
			map[string]any{"standing": w.Standing}); err != nil {
			return err
		}
		_, err = s.settle(ctx, q, who, m)
		return err
	})
}

// WithdrawSignOff takes back one's own sign-off, as long as it has not taken effect.
func (s *Catalogue) WithdrawSignOff(ctx context.Context, who act.Who, in *api.AskingInput) (*api.Asked, error) {
	return s.decide(ctx, who, *in, func(q Tx, m store.Model, w waits) error {
		if had, err := q.WithdrawSignOff(ctx, w.ID, who.ID); err != nil {
			return err
		} else if !had {
			return api.Fail(api.NotFound, "%s has not signed #%d off for %s", who.Name, w.Edition, w.Standing)
		}
		return s.event(ctx, q, who, m, "sign-off-withdrawn", addressOf(m, w.Edition),
			map[string]any{"standing": w.Standing})
	})
}

// EndAsking takes back that an edition was asked for a standing.
func (s *Catalogue) EndAsking(ctx context.Context, who act.Who, in *api.EndAskingInput) (*api.None, error) {
	_, err := s.decide(ctx, who, in.AskingInput, func(q Tx, m store.Model, w waits) error {
		if _, err := q.EndAsking(ctx, w.ID, "withdrawn", who.ID, act.Clean(in.Why)); err != nil {
			return err
		}
		return s.event(ctx, q, who, m, "withdrawn", addressOf(m, w.Edition),
			map[string]any{"standing": w.Standing})
	})
	return nil, err
}

// GoBack gives a standing back to the edition that had it before: it was signed off then.
func (s *Catalogue) GoBack(ctx context.Context, who act.Who, in *api.GoBackInput) (*api.Asked, error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	out := &api.Asked{}
	err = s.onStanding(ctx, m, in.Standing, in.Body.InsteadOf, func(q Tx, st store.ModelStanding, denied error) error {
		if ruleFor(st, who.ID).Approvers > 0 && denied != nil {
			return denied
		}
		before, err := s.before(ctx, q, st)
		if err != nil {
			return err
		}
		if before == nil {
			return api.Fail(api.Conflict, "no other edition had the standing %s of %s before", st.Name, m.Name)
		}
		row, err := q.Edition(ctx, m.ID, *before, 0)
		if err != nil {
			return err
		}
		out.Taken, out.Says = true, fmt.Sprintf("%s#%d has the standing %s again.", m.Name, *before, st.Name)
		return s.give(ctx, q, who, m, st.Name, &store.Asking{Edition: row.ID, Number: row.Number, Person: who.ID},
			act.Clean(in.Body.Why), nil)
	})
	return out, err
}

// GetStanding shows the edition that has a standing. It costs one look at the database where nothing has changed.
func (s *Catalogue) GetStanding(ctx context.Context, who act.Who, in *api.StandingInput) (*api.Edition, error) {
	m, err := s.find(ctx, who, in.Model)
	if err != nil {
		return nil, err
	}
	id, err := s.holder(ctx, m, in.Standing)
	if err != nil {
		return nil, err
	}
	row, err := s.db.Edition(ctx, m.ID, 0, id)
	if err != nil {
		return nil, err
	}
	if tag := row.Tag(); in.IfNoneMatch != "" && act.Matches(in.IfNoneMatch, tag) {
		return nil, act.Unchanged(tag)
	}
	return s.showEdition(ctx, who, m, row)
}

// holder is the edition that has a standing.
func (s *Catalogue) holder(ctx context.Context, m store.Model, standing string) (int64, error) {
	if standing == catalogue.Proposed {
		waiting, err := s.db.ListAskings(ctx, []int64{m.ID}, 0, true, 1)
		if err == nil && len(waiting) == 0 {
			err = api.Fail(api.NotFound, "no edition of %s is proposed", m.Name)
		}
		if err != nil {
			return 0, err
		}
		return waiting[0].Edition, nil
	}
	st, err := standingOf(ctx, s.db, m, standing)
	if err == nil && st.Edition == nil {
		err = api.Fail(api.NotFound, "no edition of %s has the standing %s", m.Name, standing)
	}
	if err != nil {
		return 0, err
	}
	return *st.Edition, nil
}
