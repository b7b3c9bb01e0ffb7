package judging

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/service/rules"
	"kembrel/store"
)

// watches are the stop rules at work, by run: what of the objective has been seen. They are rebuilt from the readings
// after a start.
type watches struct {
	mutex sync.Mutex
	runs  map[int64]watched
}

type watched struct {
	rule  string // and objective, as text: a change begins anew
	legs  int
	last  curve.Reading
	watch verdict.Watch
	next  int64 // step from which readings have not been seen
	at    int   // readings seen at the step before next
}

// WatchRuns applies stop rules to what came since the last time.
func (s *Judging) WatchRuns(ctx context.Context, runs []int64) error {
	if len(runs) == 0 {
		return nil
	}
	ruled, err := s.db.RunsWithRules(ctx, runs)
	if err != nil || len(ruled) == 0 {
		return err
	}
	rows, err := s.db.Judgements(ctx, ruled)
	if err != nil {
		return err
	}
	var failed error
	for _, row := range rows {
		if err := s.watchRun(ctx, row); err != nil {
			failed = errors.Join(failed, fmt.Errorf("stop rule of run %d: %w", row.ID, err))
		}
	}
	return failed
}

func (s *Judging) watchRun(ctx context.Context, row store.Judgement) error {
	rule := rules.ParseRule(row.Rule)
	if rule == nil {
		return nil
	}
	o := rule.Of(row.Objective)
	w, err := s.seen(ctx, row, o, *rule)
	if err != nil || w.watch.Stop == nil {
		return err
	}
	stopped := stoppedAt(o, *rule, w.watch)
	first := false
	err = s.db.InTx(ctx, func(q Tx) (err error) {
		if first, err = q.SetStopped(ctx, row.ID, row.Rule, stopped); err != nil || !first {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: row.ID, Verb: "told-to-stop"})
	})
	if first {
		s.Live.News()
	}
	return err
}

// seen brings the watch of a run up to date and returns it. Nobody waits while the readings are read: where two do it
// at once both read them, and the one that came further is kept.
func (s *Judging) seen(ctx context.Context, row store.Judgement, o verdict.Objective,
	rule verdict.StopRule) (watched, error) {
	legs, err := s.db.ListLegs(ctx, row.ID)
	if err != nil {
		return watched{}, err
	}
	w := s.watches.get(row.ID, row.Objective.String()+" "+string(row.Rule), len(legs))
	skip := w.at // of the readings at the last step, those seen
	err = s.readings.Scan(ctx, store.Span{Run: row.ID, Names: []string{o.Curve}, From: w.next},
		func(_ string, points []curve.Point, values []float64) error {
			for i, v := range values {
				if skip > 0 {
					skip--
					continue
				}
				if points[i].Step != w.next || w.watch.Readings == 0 {
					w.next, w.at = points[i].Step, 0
				}
				w.at++
				w.last = curve.Reading{Point: points[i], Value: v}
				w.watch.Add(o, rule, w.last)
			}
			return nil
		})
	if err != nil {
		return watched{}, err
	}
	s.watches.put(row.ID, w)
	return w, nil
}

// get is what was seen of a run under a rule so far.
func (w *watches) get(run int64, rule string, legs int) watched {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if known := w.runs[run]; known.rule == rule && known.legs == legs {
		return known
	}
	return watched{rule: rule, legs: legs}
}

func (w *watches) put(run int64, seen watched) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.runs == nil || len(w.runs) > 10_000 {
		w.runs = map[int64]watched{}
	}
	if known := w.runs[run]; known.rule == seen.rule && known.legs == seen.legs &&
		known.watch.Readings > seen.watch.Readings {
		return
	}
	w.runs[run] = seen
}

func stoppedAt(o verdict.Objective, rule verdict.StopRule, w verdict.Watch) api.Stopped {
	return api.Stopped{Why: w.Why(o, rule), At: *finding.Figure(o.Curve, *w.Stop),
		Best: *finding.Figure(o.Curve, w.Best)}
}

// bestCheckpoint is the checkpoint nearest at or before the best reading. It is looked up when it is asked for: a
// program saves, and a recorder sends, after the readings on which the rule decides.
func (s *Judging) bestCheckpoint(ctx context.Context, row store.Judgement, best api.Figure) (string, error) {
	step, epoch, err := s.db.CheckpointBefore(ctx, row.ID, best.Step)
	switch {
	case errors.Is(err, store.ErrNone):
		return "", nil
	case err != nil:
		return "", err
	case epoch == math.Trunc(epoch):
		return fmt.Sprintf("%s@e%.0f", act.RunAddress(row.Project, row.Number), epoch), nil
	}
	return fmt.Sprintf("%s@s%d", act.RunAddress(row.Project, row.Number), step), nil
}

// StopState is the rule of a run and what it has come to.
func (s *Judging) StopState(ctx context.Context, run int64) (*api.StopState, error) {
	rows, err := s.db.Judgements(ctx, []int64{run})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	row := rows[0]
	out := rules.ToStopState(rules.ParseRule(row.Rule), row.Own)
	if row.Stopped != nil {
		out.Stopped = &api.Stopped{}
		if err := json.Unmarshal(row.Stopped, out.Stopped); err != nil {
			return nil, fmt.Errorf("what stopped run %d: %w", run, err)
		}
		if out.Stopped.Checkpoint, err = s.bestCheckpoint(ctx, row, out.Stopped.Best); err != nil {
			return nil, err
		}
	}
	if out.Rule == nil || row.State != "running" {
		return out, nil
	}
	w, err := s.seen(ctx, row, out.Rule.Of(row.Objective), *out.Rule)
	if err != nil {
		return nil, err
	}
	if w.watch.Readings > 0 {
		out.Left = api.Float(w.watch.Left(*out.Rule, w.last))
	}
	return out, nil
}

// StopRun asks a run that is recorded to stop.
func (s *Judging) StopRun(ctx context.Context, who act.Who, in *api.StopInput) (*api.StopState, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Judgements(ctx, []int64{run})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	o := rows[0].Objective
	sums, err := s.db.Summaries(ctx, []int64{run}, o.Curve)
	if err != nil {
		return nil, err
	}
	why := act.Clean(in.Body.Why)
	out := api.Stopped{Who: who.Name, End: !in.Body.Advise, Why: who.Name + " asked it to stop."}
	if why != "" {
		out.Why = fmt.Sprintf("%s asked it to stop: %s", who.Name, why)
	}
	for _, c := range sums {
		out.At, out.Best = *finding.Figure(o.Curve, c.Core().Last), *finding.Figure(o.Curve, first(o.Best(c.Core())))
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		running, err := q.StopRun(ctx, run, out)
		if err == nil && !running {
			err = api.Fail(api.Conflict, "%s is not being recorded; it is %s", act.RunAddress(in.Project, in.Number),
				rows[0].State)
		}
		if err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, Verb: "told-to-stop",
			Data: map[string]any{"why": why}})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.StopState(ctx, run)
}

func first[T, U any](v T, _ U) T { return v }

// GetStopRule shows a project's rule.
func (s *Judging) GetStopRule(ctx context.Context, _ act.Who, in *api.ProjectInput) (*api.StopState, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	rule, err := s.db.ProjectStopRule(ctx, p.ID)
	return rules.ToStopState(rules.ParseRule(rule), false), err
}

// SetStopRule sets a project's rule.
func (s *Judging) SetStopRule(ctx context.Context, who act.Who, in *api.RuleInput) (*api.StopState, error) {
	if err := in.Body.Check(); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	return s.changeProjectRule(ctx, who, in.ProjectInput, &in.Body,
		act.Did{Verb: "stop-rule-set", Data: map[string]any{"rule": in.Body.Say()}})
}

// DropStopRule takes a project's rule away.
func (s *Judging) DropStopRule(ctx context.Context, who act.Who, in *api.ProjectInput) (*api.StopState, error) {
	return s.changeProjectRule(ctx, who, *in, nil, act.Did{Verb: "stop-rule-cleared"})
}

func (s *Judging) changeProjectRule(ctx context.Context, who act.Who, in api.ProjectInput, rule *verdict.StopRule,
	did act.Did) (*api.StopState, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		var kept any
		if rule != nil {
			kept = rule
		}
		if err := q.SetProjectStopRule(ctx, p.ID, kept); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: p.Key, Project: p.ID, Person: who.ID,
			Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return rules.ToStopState(rule, false), nil
}

// SetRunRule sets a run's own rule, or that it has none.
func (s *Judging) SetRunRule(ctx context.Context, who act.Who, in *api.RunRuleInput) (*api.StopState, error) {
	if in.Body.None == (in.Body.Rule != nil) {
		return nil, api.Fail(api.Invalid, "give a rule, or say none")
	}
	if in.Body.None {
		return s.changeRunRule(ctx, who, in.RunInput, struct{}{},
			act.Did{Verb: "stop-rule-set", Data: map[string]any{"rule": "none"}})
	}
	if err := in.Body.Rule.Check(); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	return s.changeRunRule(ctx, who, in.RunInput, in.Body.Rule,
		act.Did{Verb: "stop-rule-set", Data: map[string]any{"rule": in.Body.Rule.Say()}})
}

// DropRunRule lets the project's rule hold again.
func (s *Judging) DropRunRule(ctx context.Context, who act.Who, in *api.RunInput) (*api.StopState, error) {
	return s.changeRunRule(ctx, who, *in, nil, act.Did{Verb: "stop-rule-cleared"})
}

func (s *Judging) changeRunRule(ctx context.Context, who act.Who, in api.RunInput, rule any,
	did act.Did) (*api.StopState, error) {
	run, err := s.RunID(ctx, in)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.SetRunStopRule(ctx, run, rule); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	if err := s.WatchRuns(ctx, []int64{run}); err != nil { // the new rule may say stop on what is there
		return nil, err
	}
	return s.StopState(ctx, run)
}

// TryStopRule shows where a rule would have stopped runs.
func (s *Judging) TryStopRule(ctx context.Context, _ act.Who, in *api.TryInput) (*api.Tried, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	rule := in.Body.Rule
	if err := rule.Check(); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	o := rule.Of(p.Objective)
	out := &api.Tried{Said: rule.Say(), Runs: []api.TriedRun{}}
	for _, number := range in.Body.Runs {
		run, err := s.RunID(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: number})
		if err != nil {
			return nil, err
		}
		var readings []curve.Reading
		err = s.readings.Scan(ctx, store.Span{Run: run, Names: []string{o.Curve}},
			func(_ string, points []curve.Point, values []float64) error {
				for i, v := range values {
					readings = append(readings, curve.Reading{Point: points[i], Value: v})
				}
				return nil
			})
		if err != nil {
			return nil, err
		}
		out.Runs = append(out.Runs, toTried(act.RunAddress(in.Project, number), o, verdict.Try(o, rule, readings)))
	}
	return out, nil
}

func toTried(address string, o verdict.Objective, t verdict.Outcome) api.TriedRun {
	saved, ms := t.Saved()
	out := api.TriedRun{Address: address, SavedEpochs: api.Float(saved), SavedTime: api.Float(float64(ms) / 1000),
		Lost: api.Float(t.Lost())}
	if t.At > 0 {
		out.Best, out.Later = finding.Figure(o.Curve, t.Best), finding.Figure(o.Curve, t.Later)
	}
	if t.Stop != nil {
		out.Stop = finding.Figure(o.Curve, *t.Stop)
	}
	return out
}
