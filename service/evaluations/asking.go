package evaluations

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/store"
)

// ListEvaluations lists the evaluations of a run's checkpoints, the latest first.
func (s *Evaluations) ListEvaluations(ctx context.Context, _ act.Who,
	in *api.EvaluationsInput) (*api.Page[api.Evaluation], error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	q := store.EvaluationQuery{Run: run, On: in.Data, Limit: in.Limit + 1}
	if in.Cursor != "" {
		if q.Below, err = strconv.Atoi(in.Cursor); err != nil || q.Below < 1 || q.Below > math.MaxInt32 {
			return nil, api.Fail(api.Invalid, "the cursor is none of this list")
		}
	}
	if in.At != "" {
		at := api.CheckpointInput{RunInput: in.RunInput, At: in.At}
		if _, _, q.Checkpoint, err = s.checkpoints.FindWith(ctx, at); err != nil {
			return nil, err
		}
	}
	rows, err := s.db.ListEvaluations(ctx, q)
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.Evaluation]{}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		out.Next = strconv.Itoa(rows[in.Limit-1].Number)
	}
	out.Items, err = s.show(ctx, in.RunInput, run, rows)
	return out, err
}

// GetEvaluation shows one.
func (s *Evaluations) GetEvaluation(ctx context.Context, _ act.Who, in *api.EvaluationInput) (*api.Evaluation, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: run, Number: in.Evaluation, Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, api.Fail(api.NotFound, "%s has no evaluation %d; kembrel evaluations %s lists them",
			act.RunAddress(in.Project, in.Number), in.Evaluation, act.RunAddress(in.Project, in.Number))
	}
	out, err := s.show(ctx, in.RunInput, run, rows)
	if err != nil {
		return nil, err
	}
	return &out[0], nil
}

// mostVerified is how many verifications of a run are told with its checkpoints.
const mostVerified = 1000

// Verifications are those of a run's checkpoints, by checkpoint, the latest first.
func (s *Evaluations) Verifications(ctx context.Context, run int64) (map[int64][]api.Verification, error) {
	rows, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: run, Verified: true, Limit: mostVerified})
	out := map[int64][]api.Verification{}
	for _, r := range rows {
		v, err := verification(r)
		if err != nil {
			return nil, err
		}
		out[r.Checkpoint] = append(out[r.Checkpoint], *v)
	}
	return out, err
}

func verification(r store.Evaluation) (*api.Verification, error) {
	if len(r.Verified) == 0 {
		return nil, nil
	}
	v := &api.Verification{}
	err := errors.Join(json.Unmarshal(r.Verified, v), json.Unmarshal(r.Command, &v.Command))
	v.At, v.Who, v.Host = r.Ended, r.Who, r.Host
	v.Says = sayVerified(v)
	return v, err
}

func sayVerified(v *api.Verification) string {
	head := "verified"
	if !v.Same {
		head = "not the same"
	}
	var parts []string
	for _, f := range v.Figures {
		if f.Recorded == nil {
			continue
		}
		sign := "="
		if !f.Same {
			sign = "≠"
		} else if float64(f.Found) != float64(*f.Recorded) {
			sign = "≈"
		}
		found, recorded := curve.Apart(float64(f.Found), float64(*f.Recorded))
		parts = append(parts, fmt.Sprintf("%s %s %s %s", f.Curve, found, sign, recorded))
	}
	return fmt.Sprintf("%s on %s at %s: %s", head, v.Host, v.At.UTC().Format("2006-01-02 15:04 UTC"), act.Few(parts, 6))
}

// show shows rows with what their sheets give.
func (s *Evaluations) show(ctx context.Context, in api.RunInput, run int64,
	rows []store.Evaluation) ([]api.Evaluation, error) {
	out := make([]api.Evaluation, len(rows))
	if len(rows) == 0 {
		return out, nil
	}
	points, pointIDs, err := s.checkpoints.Checkpoints(ctx, in)
	if err != nil {
		return nil, err
	}
	addresses := map[int64]string{}
	for i, id := range pointIDs {
		addresses[id] = points[i].Address
	}
	ids, places := make([]int64, len(rows)), map[int64]int{}
	for i, r := range rows {
		ids[i], places[r.ID] = r.ID, i
	}
	sheets, err := s.db.EvaluationSheets(ctx, run, ids)
	if err != nil {
		return nil, err
	}
	by := make([][]store.EvaluatedSheet, len(rows))
	for _, x := range sheets {
		i := places[x.Evaluation]
		by[i] = append(by[i], x)
	}
	for i, r := range rows {
		if out[i], err = toEvaluation(r, by[i]); err != nil {
			return nil, err
		}
		out[i].Run, out[i].Checkpoint = act.RunAddress(in.Project, in.Number), addresses[r.Checkpoint]
	}
	return out, nil
}

func toEvaluation(r store.Evaluation, sheets []store.EvaluatedSheet) (api.Evaluation, error) {
	out := api.Evaluation{Number: r.Number, Step: r.Step, Epoch: api.Float(r.Epoch), Data: r.Data, Split: r.Split,
		Figures: []api.EvaluatedFigure{}, Host: r.Host,
		Who: r.Who, Started: r.Started, Ended: r.Ended}
	var said map[string]api.Float
	err := errors.Join(json.Unmarshal(r.Measures, &said), json.Unmarshal(r.Notes, &out.Notes),
		json.Unmarshal(r.Command, &out.Command))
	if err != nil {
		return out, err
	}
	if len(said) == 0 { // of a verification that was told before there were evaluations
		if err := json.Unmarshal(r.Figures, &said); err != nil {
			return out, err
		}
	}
	if out.Verified, err = verification(r); err != nil {
		return out, err
	}
	computed := map[string]assess.Interval{}
	for _, x := range sheets {
		var figures []assess.Measured
		var alarms []assess.Alarm
		if err := errors.Join(json.Unmarshal(x.Figures, &figures), json.Unmarshal(x.Alarms, &alarms)); err != nil {
			return out, err
		}
		one := api.EvaluatedSheet{Number: x.Number, Split: x.Split, Examples: x.Examples}
		for _, a := range alarms {
			one.Alarms = append(one.Alarms, string(a.Kind))
		}
		out.Sheets = append(out.Sheets, one)
		if x.Split != sheets[0].Split {
			continue
		}
		for _, f := range figures {
			computed[f.Measure()] = f.Interval
		}
	}
	names := act.SortedKeys(said)
	slices.SortStableFunc(names, func(a, b string) int { return cmp.Compare(place(a), place(b)) })
	for _, name := range names {
		f := api.EvaluatedFigure{Name: name, Value: said[name]}
		if c, ok := computed[name]; ok {
			f.Value, f.Low, f.High, f.Computed = api.Float(c.Value), c.Low, c.High, true
		}
		out.Figures = append(out.Figures, f)
	}
	out.Says = sayEvaluation(&out)
	return out, nil
}

// first are the measures that are told before others.
var first = []string{"accuracy", "loss", "log_loss", "f1", "mae", "rmse"}

// place is where a measure stands among them; others stand behind.
func place(name string) int {
	if i := slices.Index(first, name); i >= 0 {
		return i
	}
	return len(first)
}

func sayEvaluation(e *api.Evaluation) string {
	var parts []string
	tell := func(f api.EvaluatedFigure) {
		text := fmt.Sprintf("%s %.4g", f.Name, float64(f.Value))
		if f.Low != nil && f.High != nil {
			text += fmt.Sprintf(" (%.3g to %.3g)", *f.Low, *f.High)
		}
		parts = append(parts, text)
	}
	for _, f := range e.Figures {
		if place(f.Name) < len(first) && (f.Name != "log_loss" || len(parts) < 2) { // it is the loss, as a rule
			tell(f)
		}
	}
	if len(parts) == 0 {
		for _, f := range e.Figures[:min(3, len(e.Figures))] {
			tell(f)
		}
	}
	text := "No figure"
	if len(parts) > 0 {
		text = strings.Join(parts, ", ")
	} else if len(e.Sheets) > 0 {
		text = "Answers"
	}
	if on := e.Data; on != "" {
		text += " on " + on
	} else if e.Split != "" {
		text += " on " + e.Split
	}
	if len(e.Sheets) > 0 {
		text += fmt.Sprintf(", %s examples", api.Thousands(e.Sheets[0].Examples))
	}
	return text + "."
}
