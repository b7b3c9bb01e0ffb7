package evaluations

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/store"
)

// AddEvaluation keeps what a program found of a checkpoint, and compares it with what was recorded where that is asked
// for.
func (s *Evaluations) AddEvaluation(ctx context.Context, who act.Who, in *api.NewEvaluation) (*api.Evaluation, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "Idempotency-Key %.60q is not a UUID", in.Key)
	}
	notes := []string{}
	for _, n := range in.Body.Notes {
		notes = append(notes, act.Cut(act.Clean(n), mostNote))
	}
	told, err := json.Marshal(notes)
	if err != nil {
		return nil, err
	}
	if owner, number, err := s.db.EvaluationByKey(ctx, in.Key); err == nil {
		if owner != run {
			return nil, api.Fail(api.Conflict, "this key told an evaluation of another run")
		}
		if err := s.db.NoteEvaluation(ctx, in.Key, told); err != nil {
			return nil, err
		}
		return s.GetEvaluation(ctx, who, &api.EvaluationInput{RunInput: in.RunInput, Evaluation: number})
	} else if !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	c, _, id, err := s.checkpoints.FindWith(ctx, in.CheckpointInput)
	if err != nil {
		return nil, err
	}
	e := store.Evaluation{Run: run, Key: in.Key, Checkpoint: id, Host: act.Clean(in.Body.Host), Notes: told,
		Started: in.Body.Started, Ended: time.Now()}
	if in.Body.Ended != nil {
		e.Ended = *in.Body.Ended
	}
	if err := s.on(ctx, &e, in.Body.Data); err != nil {
		return nil, err
	}
	figures := map[string]api.Float{}
	for name, v := range in.Body.Figures {
		if err := curve.CheckName(name); err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
		figures[name] = v
	}
	if in.Body.Verify != nil {
		v, err := compare(c, figures, float64(*in.Body.Verify))
		if err != nil {
			return nil, err
		}
		if e.Verified, err = json.Marshal(v); err != nil {
			return nil, err
		}
	}
	command := append([]string{}, in.Body.Command...)
	for i := range command {
		command[i] = act.Clean(command[i])
	}
	for to, v := range map[*json.RawMessage]any{&e.Figures: figures, &e.Measures: measures(figures, e.Split),
		&e.Command: command} {
		if *to, err = json.Marshal(v); err != nil {
			return nil, err
		}
	}
	number := 0
	err = s.db.InTx(ctx, func(q Tx) error {
		if number, err = q.AddEvaluation(ctx, e, who.ID); err != nil {
			return err
		}
		verb, data := "evaluated", map[string]any{"evaluation": number}
		if e.Verified != nil {
			verb = "verified"
		}
		if on := onOf(e); on != "" {
			data["on"] = on
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "checkpoint", Run: run, Subject: c.Address, Person: who.ID,
			Verb: verb, Data: data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.GetEvaluation(ctx, who, &api.EvaluationInput{RunInput: in.RunInput, Evaluation: number})
}

// mostNote is how long a note is, in bytes.
const mostNote = 2000

// on finds the data that was named: the split of a snapshot, or what the run used for something.
func (s *Evaluations) on(ctx context.Context, e *store.Evaluation, named string) error {
	if named == "" {
		return nil
	}
	if api.CheckUse(named) == nil {
		e.Split = named
		uses, err := s.db.RunData(ctx, []int64{e.Run})
		if err != nil {
			return err
		}
		for _, u := range uses {
			if u.Use == named && u.Snapshot != nil {
				e.Snapshot, e.Data = u.Snapshot, u.Address
				if u.Split != "" {
					e.Split = u.Split
				}
			}
		}
		return nil
	}
	at, err := api.ParseData(named)
	if err != nil {
		return api.Fail(api.Invalid, "data: %v", err)
	}
	row, err := s.db.FindSnapshot(ctx, at.Dataset, at.Number)
	if errors.Is(err, store.ErrNone) {
		return api.Fail(api.NotFound, "there is no data %.200s; kembrel data lists it", named)
	} else if err != nil {
		return err
	}
	at.Number = row.Number
	if at.Split != "" {
		splits, err := s.db.SnapshotSplits(ctx, row.ID)
		if err != nil {
			return err
		}
		var names []string
		for _, x := range splits {
			names = append(names, x.Name)
		}
		if !slices.Contains(names, at.Split) {
			return api.Fail(api.NotFound, "%s#%d has no split %s; it has %s", at.Dataset, at.Number, at.Split,
				act.Few(names, 20))
		}
	}
	e.Snapshot, e.Data, e.Split = &row.ID, at.String(), at.Split
	return nil
}

func onOf(e store.Evaluation) string {
	if e.Data != "" {
		return e.Data
	}
	return e.Split
}

// measures are figures by what they measure: those on the split that was evaluated, and those of no split.
func measures(figures map[string]api.Float, split string) map[string]api.Float {
	out := map[string]api.Float{}
	for _, name := range slices.Sorted(maps.Keys(figures)) {
		measure, of := curve.SplitName(name)
		if of != "" && of != split {
			measure = name // of another split, which is told
		}
		out[measure] = figures[name]
	}
	return out
}

// compared is what is kept of a comparison with what was recorded.
type compared struct {
	Same    bool                 `json:"same"`
	Figures []api.VerifiedFigure `json:"figures"`
}

// compare compares figures with those recorded with a checkpoint.
func compare(c *api.Checkpoint, figures map[string]api.Float, tolerance float64) (*compared, error) {
	if !(tolerance >= 0) || math.IsInf(tolerance, 0) {
		return nil, api.Fail(api.Invalid, "a tolerance is a number from 0 up")
	}
	v, same := &compared{Same: true}, 0
	for _, name := range act.SortedKeys(figures) {
		f := api.VerifiedFigure{Curve: name, Found: figures[name], Tolerance: api.Float(tolerance)}
		if recorded, ok := c.Figures[name]; ok {
			same++
			f.Recorded = &recorded
			a, b := float64(recorded), float64(f.Found)
			f.Same = a == b || a != a && b != b || math.Abs(a-b) <= tolerance
			v.Same = v.Same && f.Same
		}
		v.Figures = append(v.Figures, f)
	}
	if same == 0 {
		return nil, api.Fail(api.Invalid, "none of the figures reported (%s) was recorded with %s, which has %s",
			act.Few(act.SortedKeys(figures), 10), c.Address, act.Few(act.SortedKeys(c.Figures), 20))
	}
	return v, nil
}
