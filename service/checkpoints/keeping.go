package checkpoints

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/core/keep"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/service/rules"
	"kembrel/store"
)

// checkKeepRule refuses a rule that says nothing or whose condition cannot be read.
func checkKeepRule(r *api.KeepRule) error {
	if err := r.Check(); err != nil {
		return api.Fail(api.Invalid, "%v", err)
	}
	if r.Where != "" {
		if _, err := filter.Parse(r.Where, time.Now()); err != nil {
			return finding.FilterProblem("where", err)
		}
	}
	return nil
}

// GetKeepRule shows a project's keep rule.
func (s *Checkpoints) GetKeepRule(ctx context.Context, _ act.Who, in *api.ProjectInput) (*api.KeepState, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	ofProject, _, err := s.db.KeepRules(ctx, p.ID, 0)
	return rules.ToKeepState(ofProject, nil), err
}

// GetRunKeepRule shows the keep rule that holds for a run.
func (s *Checkpoints) GetRunKeepRule(ctx context.Context, _ act.Who, in *api.RunInput) (*api.KeepState, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	_, row, _, err := s.RunWith(ctx, *in)
	if err != nil {
		return nil, err
	}
	ofProject, ofRun, err := s.db.KeepRules(ctx, p.ID, row.ID)
	return rules.ToKeepState(ofProject, ofRun), err
}

// SetKeepRule sets a project's keep rule. What goes by it begins its grace period at once.
func (s *Checkpoints) SetKeepRule(ctx context.Context, who act.Who, in *api.KeepRuleInput) (*api.KeepState, error) {
	if err := checkKeepRule(&in.Body); err != nil {
		return nil, err
	}
	return s.changeProjectKeepRule(ctx, who, in.ProjectInput, in.Body,
		act.Did{Verb: "keep-rule-set", Data: map[string]any{"rule": in.Body.Say()}})
}

// DropKeepRule lets all checkpoints of a project stay. Those that a rule had begun to drop stay too.
func (s *Checkpoints) DropKeepRule(ctx context.Context, who act.Who, in *api.ProjectInput) (*api.KeepState, error) {
	return s.changeProjectKeepRule(ctx, who, *in, nil, act.Did{Verb: "keep-rule-cleared"})
}

func (s *Checkpoints) changeProjectKeepRule(ctx context.Context, who act.Who, in api.ProjectInput, rule any,
	did act.Did) (*api.KeepState, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.SetProjectKeepRule(ctx, p.ID, rule); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: p.Key, Project: p.ID, Person: who.ID,
			Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	if err := s.applyKeepRules(ctx, store.Keeping{ID: p.ID, Key: p.Key, Objective: p.Objective}); err != nil {
		return nil, err
	}
	return s.GetKeepRule(ctx, who, &in)
}

// SetRunKeepRule sets a run's own keep rule, or that it has none.
func (s *Checkpoints) SetRunKeepRule(ctx context.Context, who act.Who,
	in *api.RunKeepRuleInput) (*api.KeepState, error) {
	if in.Body.None == (in.Body.Rule != nil) {
		return nil, api.Fail(api.Invalid, "give a rule, or say none")
	}
	if in.Body.None {
		return s.changeRunKeepRule(ctx, who, in.RunInput, struct{}{},
			act.Did{Verb: "keep-rule-set", Data: map[string]any{"rule": "none"}})
	}
	if err := checkKeepRule(in.Body.Rule); err != nil {
		return nil, err
	}
	return s.changeRunKeepRule(ctx, who, in.RunInput, in.Body.Rule,
		act.Did{Verb: "keep-rule-set", Data: map[string]any{"rule": in.Body.Rule.Say()}})
}

// DropRunKeepRule lets the project's rule hold again.
func (s *Checkpoints) DropRunKeepRule(ctx context.Context, who act.Who, in *api.RunInput) (*api.KeepState, error) {
	return s.changeRunKeepRule(ctx, who, *in, nil, act.Did{Verb: "keep-rule-cleared"})
}

func (s *Checkpoints) changeRunKeepRule(ctx context.Context, who act.Who, in api.RunInput, rule any,
	did act.Did) (*api.KeepState, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	_, row, _, err := s.RunWith(ctx, in)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.SetRunKeepRule(ctx, row.ID, rule); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: row.ID, Person: who.ID, Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	if err := s.applyKeepRules(ctx, store.Keeping{ID: p.ID, Key: p.Key, Objective: p.Objective}); err != nil {
		return nil, err
	}
	return s.GetRunKeepRule(ctx, who, &in)
}

// decided is what a rule says of a checkpoint.
type decided struct {
	store.KeepCandidate
	rule   *keep.Rule // nil: all stay
	figure float64
	why    []string // why it stays
}

// decide applies keep rules to the checkpoints of a project's runs, or of some (nil: all): one given, or those that are
// set.
func (s *Checkpoints) decide(ctx context.Context, p store.Keeping, numbers []int64,
	given *keep.Rule) ([]decided, error) {
	rows, err := s.db.KeepCandidates(ctx, p.ID, numbers)
	if err != nil {
		return nil, err
	}
	children, err := s.children(ctx, p.Key)
	if err != nil {
		return nil, err
	}
	out := make([]decided, len(rows))
	figures := make([]map[string]api.Float, len(rows))
	conditions := map[string][]int{} // the checkpoints for which each is to be looked at
	for i, r := range rows {
		out[i] = decided{KeepCandidate: r, rule: given, figure: math.NaN()}
		if given == nil {
			out[i].rule = rules.ParseKeepRule(r.Rule)
		}
		if err := json.Unmarshal(r.Figures, &figures[i]); err != nil {
			return nil, err
		}
		if v, ok := figures[i][p.Objective.Curve]; ok {
			out[i].figure = float64(v)
		}
		if out[i].rule != nil && out[i].rule.Where != "" {
			conditions[out[i].rule.Where] = append(conditions[out[i].rule.Where], i)
		}
	}
	matches := make([]bool, len(rows))
	for where, of := range conditions {
		err := s.matching(ctx, p.ID, p.Objective, where, out, figures, of, matches)
		switch {
		case err == nil:
		case given != nil || !api.Is(err, api.Invalid):
			return nil, err
		default: // one that nobody understands any more keeps its checkpoints, and lets the other rules be
			s.Log.Warn("a keep rule cannot be read", "project", p.Key, "where", where, "err", err)
			for _, i := range of {
				out[i].rule = nil
			}
		}
	}
	now := time.Now()
	for from := 0; from < len(out); {
		to := from
		for to < len(out) && out[to].Run == out[from].Run {
			to++
		}
		run := out[from:to]
		if run[0].rule != nil {
			list := make([]keep.Checkpoint, len(run))
			for i, d := range run {
				list[i] = keep.Checkpoint{Step: d.Step, Epoch: d.Epoch, Saved: d.Saved, Figure: d.figure,
					Replaced: d.Replaced, Pinned: d.Pinned,
					Children: children[place{d.Number, d.Step}], Matches: matches[from+i]}
			}
			r := keep.Run{Over: run[0].State == "finished" || run[0].State == "stopped",
				Lower: p.Objective.Direction != verdict.Higher}
			for i, why := range keep.Decide(*run[0].rule, r, list, now) {
				run[i].why = why
			}
		}
		from = to
	}
	return out, nil
}

// place is a step of a run of a project.
type place struct {
	run  int
	step int64
}

// children lists, by the place of a project's checkpoint, the runs that began from it.
func (s *Checkpoints) children(ctx context.Context, project string) (map[place][]string, error) {
	rows, err := s.db.Beginnings(ctx)
	out := map[place][]string{}
	for _, r := range rows {
		from, err := api.ParseAddress(r.From)
		if err != nil || from.Project != project || r.Address == act.RunAddress(from.Project, from.Run) {
			continue // a leg that went on in its own run holds to nothing
		}
		at, child := place{from.Run, r.Step}, s.Shown(ctx, r.Address)
		if !slices.Contains(out[at], child) { // the run, and its first leg
			out[at] = append(out[at], child)
		}
	}
	return out, err
}

// matching says for which of some checkpoints a condition holds. In it at("NAME"), epoch, step and size are the
// checkpoint's, all else the run's.
func (s *Checkpoints) matching(ctx context.Context, project int64, o verdict.Objective, where string, list []decided,
	figures []map[string]api.Float, of []int, matches []bool) error {
	n, err := filter.Parse(where, time.Now())
	if err != nil {
		return finding.FilterProblem("where", err)
	}
	n.OfObjective(o.Curve)
	var ofRun []*filter.Node
	own := func(l *filter.Node) bool {
		return l.Op == filter.AtBest || l.Op == filter.Field &&
			(l.Name == "epoch" || l.Name == "step" || l.Name == "size")
	}
	for _, l := range n.Leaves() {
		if !own(l) {
			ofRun = append(ofRun, l)
		}
	}
	values := map[int64][]json.RawMessage{}
	if len(ofRun) > 0 {
		var numbers []int64
		for _, i := range of {
			if k := int64(list[i].Number); len(numbers) == 0 || numbers[len(numbers)-1] != k {
				numbers = append(numbers, k)
			}
		}
		q := store.RunQuery{Project: project, Objective: o.Curve,
			Lower: func(curve string) bool { return finding.LowerIsBetter(o, curve) }}
		if values, err = s.db.RunValues(ctx, q, numbers, ofRun); err != nil {
			return finding.OrOutOfRange(err)
		}
	}
	for _, i := range of {
		d := list[i]
		known := map[*filter.Node]any{}
		for k, l := range ofRun {
			if row := values[int64(d.Number)]; row != nil {
				if known[l], err = filterValue(l.Kind, row[k]); err != nil {
					return err
				}
			}
		}
		r := filter.Run{Fields: map[string]any{"epoch": d.Epoch, "step": float64(d.Step), "size": float64(d.Size)},
			Figures: map[string]filter.Figures{}}
		for name, v := range figures[i] {
			r.Figures[name] = filter.Figures{AtBest: float64(v)}
		}
		matches[i] = n.Put(known).Matches(r)
	}
	return nil
}

// filterValue is a value of a run as the filter language sees it; nil: absent.
func filterValue(kind filter.Kind, text json.RawMessage) (any, error) {
	if len(text) == 0 || string(text) == "null" {
		return nil, nil
	}
	switch kind {
	case filter.Time:
		var t time.Time
		err := json.Unmarshal(text, &t)
		return t, err
	case filter.List:
		var l []string
		err := json.Unmarshal(text, &l)
		return l, err
	}
	var v any
	err := json.Unmarshal(text, &v)
	return v, err
}

// applyKeepRules begins the grace period of what goes by a project's rules and ends that of what no longer does.
func (s *Checkpoints) applyKeepRules(ctx context.Context, p store.Keeping) error {
	list, err := s.decide(ctx, p, nil, nil)
	if err != nil {
		return err
	}
	var stays []int64
	goes := map[keep.Rule][]int64{}
	for _, d := range list {
		switch going := d.rule != nil && len(d.why) == 0; {
		case going && d.Goes == nil:
			goes[*d.rule] = append(goes[*d.rule], d.ID)
		case !going && d.Goes != nil && d.ByRule:
			stays = append(stays, d.ID)
		}
	}
	if len(stays)+len(goes) == 0 {
		return nil
	}
	begun := int64(0)
	err = s.db.InTx(ctx, func(q Tx) error {
		if _, err := q.CheckpointsStay(ctx, stays, true); err != nil {
			return err
		}
		for rule, ids := range goes {
			n, err := q.CheckpointsGo(ctx, ids, rule.GracePeriod(), "by the rule that "+rule.Say(), true)
			if err != nil {
				return err
			}
			begun += n
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: p.Key, Project: p.ID, Verb: "keep-rules-applied",
			Data: map[string]any{"going": begun, "staying": len(stays)}})
	})
	if err == nil {
		s.Live.News()
	}
	return err
}

// keepRules applies all keep rules and drops the checkpoints whose grace period is over.
func (s *Checkpoints) keepRules(ctx context.Context) error {
	projects, err := s.db.ProjectsKeeping(ctx)
	for _, p := range projects {
		err = errors.Join(err, s.applyKeepRules(ctx, p))
	}
	return errors.Join(err, s.DropDue(ctx))
}

// maxTried is how many checkpoints one answer of TryKeepRule brings.
const maxTried = 10_000

// TryKeepRule shows what would go by a rule, or by those that are set.
func (s *Checkpoints) TryKeepRule(ctx context.Context, _ act.Who, in *api.TryKeepInput) (*api.KeepTried, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	said := "is that which is set"
	var given *keep.Rule
	if in.Body.Rule != nil {
		if err := checkKeepRule(in.Body.Rule); err != nil {
			return nil, err
		}
		given = &in.Body.Rule.Rule
		said = given.Say()
	}
	var numbers []int64
	for _, n := range in.Body.Runs {
		if _, err := s.RunID(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: n}); err != nil {
			return nil, err
		}
		numbers = append(numbers, int64(n))
	}
	list, err := s.decide(ctx, store.Keeping{ID: p.ID, Key: p.Key, Objective: p.Objective}, numbers, given)
	if err != nil {
		return nil, err
	}
	goes := func(d decided) bool { return d.rule != nil && len(d.why) == 0 || d.Goes != nil && !d.ByRule }
	var going, staying []int64
	for _, d := range list {
		if goes(d) {
			going = append(going, d.ID)
		} else {
			staying = append(staying, d.ID)
		}
	}
	out := &api.KeepTried{Said: said, Checkpoints: []api.KeptOne{}, Going: len(going), Staying: len(staying)}
	if out.Frees, err = s.frees(ctx, going); err != nil {
		return nil, err
	}
	if len(staying) > 0 {
		held, err := s.db.Held(ctx, store.HeldQuery{By: "all", Checkpoints: staying})
		if err != nil {
			return nil, err
		}
		out.Left = held[0].Stored
	}
	out.Says = sayTried(out)
	alone := map[int64]store.Held{}
	if len(list) > 0 {
		if alone, err = s.db.Held(ctx, store.HeldQuery{By: "checkpoint", Project: p.ID,
			Checkpoints: append(going, staying...)}); err != nil {
			return nil, err
		}
	}
	for _, d := range list[:min(len(list), maxTried)] {
		if d.rule == nil {
			d.why = []string{"no rule"}
		}
		out.Checkpoints = append(out.Checkpoints,
			api.KeptOne{Address: act.CheckpointAddress(in.Project, d.Number, d.Standing), Stays: !goes(d),
				Why: d.why, Step: d.Step,
				Epoch: api.Float(d.Epoch), Figure: api.Float(d.figure), Saved: d.Saved, Size: d.Size,
				Frees: alone[d.ID].Own})
	}
	return out, nil
}

func sayTried(t *api.KeepTried) string {
	if t.Going == 0 {
		return fmt.Sprintf("Nothing is to be deleted: %s %s.",
			act.Many(t.Staying, "checkpoint stays with", "checkpoints stay with"), api.Bytes(t.Left))
	}
	return fmt.Sprintf("%s %s; %s %s.", act.Many(t.Going, "checkpoint is to be deleted, which frees",
		"checkpoints are to be deleted, which frees"), api.Bytes(t.Frees), act.Many(t.Staying, "stays with",
		"stay with"), api.Bytes(t.Left))
}

// frees is how many bytes go with some checkpoints.
func (s *Checkpoints) frees(ctx context.Context, checkpoints []int64) (int64, error) {
	if len(checkpoints) == 0 {
		return 0, nil
	}
	held, err := s.db.Held(ctx, store.HeldQuery{By: "all", Checkpoints: checkpoints})
	return held[0].Own, err
}
