package finding

import (
	"context"
	"encoding/json"
	"fmt"
	"math"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/store"
)

// RecipesOf reads the recipes of runs, by id.
func (s *Finder) RecipesOf(ctx context.Context, runs []store.Run) (map[int64]api.Recipe, error) {
	ids := make([]int64, len(runs))
	for i, r := range runs {
		ids[i] = r.ID
	}
	found, err := s.db.Recipes(ctx, ids)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]api.Recipe, len(found))
	for id, text := range found {
		var recipe api.Recipe
		if err := json.Unmarshal(text, &recipe); err != nil {
			return nil, fmt.Errorf("recipe of run %d: %w", id, err)
		}
		out[id] = recipe
	}
	return out, nil
}

// Figure is a reading of a curve, as the API shows it.
func Figure(name string, r curve.Reading) *api.Figure {
	return &api.Figure{Curve: name, Value: api.Float(r.Value), Step: r.Step, Epoch: api.Float(r.Epoch)}
}

// Finite is figure for a reading that there may not be.
func Finite(name string, r curve.Reading) *api.Figure {
	if math.IsNaN(r.Value) {
		return nil
	}
	return Figure(name, r)
}

// ToRun is a run as the API shows it, from its row and the summary of its objective; what whoever asks may not see is
// left out.
func (s *Finder) ToRun(ctx context.Context, project string, o verdict.Objective, r store.Run,
	sum store.Summary) api.Run {
	out := api.Run{Address: act.RunAddress(project, r.Number), Project: project, Number: r.Number, Title: r.Title,
		State: r.State, Who: r.Who,
		Tags: r.Tags, Alarms: r.Alarms, Note: r.Note, Place: r.Place, Archived: r.Archived, DeleteAt: r.Doomed,
		Host: r.Host, Started: r.Started, Ended: r.Ended, Took: r.Took, Since: r.Since, Objective: o,
		Step: r.Step, Epoch: api.Float(r.Epoch)}
	json.Unmarshal(r.Hyper, &out.Hyper)
	if sum.Count > 0 {
		if best, ok := o.Best(sum.Core()); ok {
			out.Best = Figure(o.Curve, best)
		}
		out.Last = Figure(o.Curve, sum.Core().Last)
		out.Sketch = sum.Core().Sketch.Values
	}
	if r.Origin != nil {
		json.Unmarshal(r.Origin, &out.Origin)
	}
	if out.Origin != nil {
		out.Origin.From = s.Shown(ctx, out.Origin.From)
	}
	out.Verdict = ToVerdict(r.Verdict, r.Dispute)
	return out
}

// ToVerdict is a verdict as it is kept, with what a person says against it; nil: there is none.
func ToVerdict(kept, dispute json.RawMessage) *api.Verdict {
	v := &api.Verdict{}
	if kept == nil || json.Unmarshal(kept, v) != nil {
		return nil
	}
	if dispute != nil {
		v.Dispute = &api.Dispute{}
		if json.Unmarshal(dispute, v.Dispute) != nil {
			v.Dispute = nil
		}
	}
	return v
}
