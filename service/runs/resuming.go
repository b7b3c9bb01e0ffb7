package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/hyper"
	"kembrel/service/act"
	"kembrel/store"
)

// addLeg opens the next leg of a run, which is locked. Only one leg of a run is written at a time: while the one before
// is heard of, a new one is refused, unless it is told to take over.
func (s *Runs) addLeg(ctx context.Context, q Tx, run int64, in *api.NewLeg) (int, error) {
	address := act.RunAddress(in.Project, in.Number)
	newest, err := q.NewestLeg(ctx, run, s.lostAfter.Seconds())
	if err != nil && !errors.Is(err, store.ErrNone) {
		return 0, err
	}
	if err == nil && newest.State == "running" && newest.Alive && !in.Body.TakeOver {
		return 0, api.Fail(api.Conflict,
			"%s is being recorded: leg %d on %s was heard of %s ago. End that program first, wait until it is lost (%s without a sign), or take over (--take-over), and it will be told to stop",
			address, newest.Number, newest.Host, time.Since(newest.Seen).Round(time.Second), s.lostAfter)
	}
	leg := store.NewLeg{Key: in.Key, Recorder: in.Body.Recorder, Host: act.Clean(in.Body.Host), FromEpoch: math.NaN(),
		Started: act.ByOurClock(ctx, in.Body.Started)}
	if in.Body.From == "" {
		if newest.Number > 0 {
			return 0, api.Fail(api.Invalid,
				"%s has a leg already; say from which checkpoint the next one goes on", address)
		}
		return q.AddLeg(ctx, run, leg)
	}
	resumed, err := s.resumption(ctx, in)
	if err != nil {
		return 0, err
	}
	if newest.State == "finished" && !in.Body.More {
		return 0, api.Fail(api.Conflict,
			"%s is finished: going on from its end would add a leg with nothing in it. To train it further, say so (--more); to try something else, branch from one of its checkpoints", address)
	}
	leg.FromStep, leg.FromEpoch, leg.Resumed = resumed.Step+1, float64(resumed.Epoch), resumed
	return q.AddLeg(ctx, run, leg)
}

// resumption finds out what a leg goes on from.
func (s *Runs) resumption(ctx context.Context, in *api.NewLeg) (*api.Resumed, error) {
	from, err := api.ParseAddress(in.Body.From)
	if err != nil || from.At.Kind == api.AtNone {
		return nil, api.Fail(api.Invalid, "a leg goes on from a checkpoint, not from %.100q", in.Body.From)
	}
	_, row, _, err := s.RunWith(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	c, _, _, err := s.checkpoints.FindHeld(ctx,
		api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project},
			Number: from.Run}, At: from.At.String()})
	if err != nil {
		return nil, err
	}
	out := &api.Resumed{From: c.Address, Leg: c.Leg, Step: c.Step, Epoch: c.Epoch, Parts: in.Body.Parts}
	if from.Project == in.Project && from.Run == in.Number {
		out.Lacks = checkpoint.Lacks(in.Body.Parts, row.NeedsOrUsual())
	}
	return out, nil
}

// told applies what a program says of itself. Only the first leg's says what the run is.
func (s *Runs) told(ctx context.Context, q Tx, run int64, leg int, in *api.ProgramSays) error {
	if leg > 1 {
		return s.packagesDiffer(ctx, q, run, leg, in)
	}
	for _, part := range in.Needs {
		if err := checkpoint.CheckPart(part); err != nil {
			return api.Fail(api.Invalid, "needs: %v", err)
		}
	}
	recipe := map[string]any{}
	if in.Language != "" {
		recipe["language"] = act.Clean(in.Language)
	}
	if len(in.Packages) > 0 {
		recipe["packages"] = act.CleanMap(in.Packages)
	}
	var start any
	if in.Start != nil {
		start = api.Start{Weights: in.Start.Weights, Digest: act.Clean(in.Start.Digest), Seed: in.Start.Seed}
	}
	return q.ProgramSays(ctx, run, recipe, in.Needs, start)
}

// packagesDiffer leaves a note where a later leg runs with other packages.
func (s *Runs) packagesDiffer(ctx context.Context, q Tx, run int64, leg int, in *api.ProgramSays) error {
	recipe, err := q.Recipe(ctx, run)
	if err != nil {
		return err
	}
	var had api.Recipe
	if err := json.Unmarshal(recipe, &had); err != nil || len(had.Packages) == 0 || len(in.Packages) == 0 {
		return err
	}
	if found := changed(had.Packages, in.Packages); len(found) > 0 {
		return q.AddNote(ctx, run, store.Note{Leg: leg, At: time.Now(),
			Text: act.Clean(fmt.Sprintf("Leg %d runs with other packages: %s.", leg, act.Few(found, 20)))})
	}
	return nil
}

// changed lists what differs between two maps, as "name old → new".
func changed(had, has map[string]string) []string {
	var out []string
	for name, v := range had {
		if now, ok := has[name]; !ok {
			out = append(out, name+" "+v+" → gone")
		} else if now != v {
			out = append(out, name+" "+v+" → "+now)
		}
	}
	for name, v := range has {
		if _, ok := had[name]; !ok {
			out = append(out, name+" new: "+v)
		}
	}
	slices.Sort(out)
	return out
}

// otherHyper takes hyperparameters that came when the run's were fixed, on a later leg or behind the first reading: the
// same again are welcome, so is a value that was asked for and is taken late; others are noted, as the run has those
// that it began with.
func (s *Runs) otherHyper(ctx context.Context, q Tx, run int64, leg int, given map[string]json.RawMessage) error {
	had, err := q.Hyper(ctx, run)
	if err != nil {
		return err
	}
	row, err := q.StartOf(ctx, run)
	if err != nil {
		return err
	}
	var origin api.Origin
	if row.Origin != nil {
		if err := json.Unmarshal(row.Origin, &origin); err != nil {
			return err
		}
	}
	var differ []string
	for name, v := range given {
		if asked, ok := origin.Asked[name]; ok && leg == 1 && hyper.Equal(asked, v) {
			if err := q.SetHyper(ctx, run, map[string]json.RawMessage{name: v}); err != nil {
				return err
			}
			continue
		}
		if was, ok := had[name]; !ok || !hyper.Equal(was, v) {
			old := "none"
			if ok {
				old = string(was)
			}
			differ = append(differ, fmt.Sprintf("%s %s instead of %s", name, v, old))
		}
	}
	if len(differ) == 0 {
		return nil
	}
	slices.Sort(differ)
	return q.AddNote(ctx, run, store.Note{Leg: leg, At: time.Now(),
		Text: act.Clean(fmt.Sprintf("Leg %d trains with other hyperparameters than the run began with: %s. The run keeps those.", leg, act.Few(differ, 20)))})
}
