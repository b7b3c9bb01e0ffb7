package pages

import (
	"context"
	"encoding/json"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// mostEvaluations is how many evaluations the sentence on a run's page is made of.
const mostEvaluations = 50

// GetRun shows a run with its legs, notes, curves and the sentences of its page.
func (s *Pages) GetRun(ctx context.Context, who act.Who, in *api.RunInput) (*api.RunDetail, error) {
	run, row, _, err := s.RunWith(ctx, *in)
	if err != nil {
		return nil, err
	}
	out := &api.RunDetail{Run: *run, Legs: []api.Leg{}, Notes: []api.Note{}, Curves: []api.CurveInfo{}}
	recipes, err := s.RecipesOf(ctx, []store.Run{row})
	if err != nil {
		return nil, err
	}
	out.Recipe = recipes[row.ID]
	legs, err := s.db.ListLegs(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	for _, l := range legs {
		out.Legs = append(out.Legs, api.Leg{Number: l.Number, State: l.State, Host: l.Host, FromStep: l.FromStep,
			LastStep: l.LastStep,
			Epoch:    api.Float(l.LastEpoch), Started: l.Started, Ended: l.Ended, Seen: l.Seen, ExitCode: l.ExitCode,
			Signal: l.Signal, Why: l.Why, Tail: l.Tail})
		if l.Resumed != nil {
			if err := json.Unmarshal(l.Resumed, &out.Legs[len(out.Legs)-1].Resumed); err != nil {
				return nil, err
			}
		}
	}
	notes, err := s.db.ListNotes(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	for _, n := range notes {
		out.Notes = append(out.Notes, api.Note(n))
	}
	curves, err := s.db.Summaries(ctx, []int64{row.ID}, "")
	if err != nil {
		return nil, err
	}
	for _, c := range curves {
		k := c.Core()
		out.Curves = append(out.Curves, api.CurveInfo{Name: c.Name, Count: c.Count, NaN: c.NaN,
			Last:   finding.Figure(c.Name, k.Last),
			Lowest: finding.Finite(c.Name, k.Lowest), Highest: finding.Finite(c.Name, k.Highest)})
	}
	count, size, err := s.db.CheckpointStats(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	out.Checkpoints, out.Needs = int(count), row.NeedsOrUsual()
	if row.Repeats != nil {
		if err := json.Unmarshal(row.Repeats, &out.Repeats); err != nil {
			return nil, err
		}
	}
	if out.Start, err = s.runs.Start(ctx, row.ID, row.Start); err != nil {
		return nil, err
	}
	if out.Data, err = s.data(ctx, row.ID); err != nil {
		return nil, err
	}
	o := run.Objective
	if out.Verdict == nil { // not judged yet
		if out.Verdict, err = s.judging.VerdictOf(ctx, row.ID, o); err != nil {
			return nil, err
		}
	}
	stop, err := s.judging.StopState(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	out.Stop, out.ExpectedEnd = *stop, expectedEnd(out)
	if err := s.presentOrigins(ctx, out); err != nil {
		return nil, err
	}
	if err := s.untaken(ctx, row, out); err != nil {
		return nil, err
	}
	if out.Warnings, err = s.warnings(ctx, out); err != nil {
		return nil, err
	}
	out.Warnings = append(out.Warnings, warnOfData(out.Data)...)
	if out.Raised, err = s.sheets.Raised(ctx, row); err != nil {
		return nil, err
	}
	found, err := s.evaluations.ListEvaluations(ctx, who, &api.EvaluationsInput{RunInput: *in,
		PageInput: api.PageInput{Limit: mostEvaluations}})
	if err != nil {
		return nil, err
	}
	out.Answers = api.Answers{Evaluated: sayEvaluated(found.Items), Learning: out.Verdict.Said, WentIn: sayWentIn(out),
		CameOut:  sayCameOut(count, size),
		Happened: sayHappened(out)}
	return out, nil
}

// expectedEnd is when a running run will have done the epochs that its hyperparameters announce.
func expectedEnd(r *api.RunDetail) *time.Time {
	var epochs float64
	if r.State != "running" || json.Unmarshal(r.Hyper["epochs"], &epochs) != nil || len(r.Legs) == 0 {
		return nil
	}
	left := (epochs - float64(r.Epoch)) * float64(r.Verdict.Pace)
	if !(left >= 0) || left > 1e9 {
		return nil
	}
	end := r.Legs[len(r.Legs)-1].Seen.Add(time.Duration(left * float64(time.Second)))
	return &end
}
