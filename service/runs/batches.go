package runs

import (
	"context"
	"errors"
	"slices"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/hyper"
	"kembrel/service/act"
	"kembrel/store"
)

// SendBatch counts a batch once: its number and what it brings are kept in one transaction, or not at all.
func (s *Runs) SendBatch(ctx context.Context, who act.Who, in *api.BatchInput) (*api.Counted, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if in.Body.Number < 1 || in.Body.Upto < 1 || len(in.Body.Notes) > maxNotes {
		return nil, api.Fail(api.Invalid, "a batch has a number and an upto from 1 up, and at most %d notes", maxNotes)
	}
	if err := hyper.Check(in.Body.Hyper); err != nil {
		return nil, api.Fail(api.Invalid, "batch %d: %v", in.Body.Number, err)
	}
	batch, fresh, err := s.toBatch(ctx, run, in.Body)
	if err != nil {
		return nil, err
	}
	uses, err := s.uses(ctx, run, in.Body.Data)
	if err != nil {
		return nil, err
	}
	count := store.Count{Run: run, Leg: in.Leg, Recorder: in.Recorder, Number: in.Body.Number, Upto: in.Body.Upto,
		Batch: batch.Batch, Payload: batch.payload, Points: batch.training}
	changed := len(in.Body.Hyper) > 0 || len(in.Body.Notes) > 0 || in.Body.Says != nil || len(uses) > 0
	if !changed && !fresh {
		var before store.Counted
		if before, err = s.db.CountTogether(ctx, count); err == nil && before.State == "lost" {
			err = s.db.InTx(ctx, func(q Tx) (err error) {
				if err = q.LockRun(ctx, run); err != nil {
					return err
				}
				changed, err = s.alive(ctx, q, run, in.Leg, before.State)
				return err
			})
		}
	} else {
		err = s.db.InTx(ctx, func(q Tx) error { return s.countAlone(ctx, q, who, in, batch, uses, count) })
	}
	if errors.Is(err, store.ErrNone) {
		return s.countedBefore(ctx, in, run, count)
	}
	if err != nil {
		return nil, err
	}
	if changed {
		s.Live.News()
	}
	if len(batch.Axis) > 0 {
		s.Live.Touch("r", run)
	}
	out := &api.Counted{Leg: in.Leg, Batch: in.Body.Number, Upto: in.Body.Upto}
	for _, c := range batch.Columns {
		out.Readings += int64(len(c.Values))
	}
	return out, nil
}

// countAlone counts a batch that brings more than readings of known curves, all in one transaction.
func (s *Runs) countAlone(ctx context.Context, q Tx, who act.Who, in *api.BatchInput, batch readBatch,
	uses []store.RunData, count store.Count) error {
	if err := q.LockRun(ctx, count.Run); err != nil {
		return err
	}
	named := slices.DeleteFunc(slices.Clone(batch.names), func(n string) bool { return n == "" })
	ids, err := q.CurveIDs(ctx, count.Run, named)
	if err != nil {
		return err
	}
	for i, name := range batch.names {
		if name != "" {
			count.Batch.Columns[i].Curve = ids[name]
		}
	}
	before, err := q.CountBatch(ctx, count)
	if err != nil {
		return err
	}
	changed, err := s.alive(ctx, q, count.Run, in.Leg, before.State)
	if err != nil {
		return err
	}
	if len(in.Body.Hyper) > 0 {
		changed = true
		switch {
		case in.Leg > 1 || before.Before > 0:
			err = s.otherHyper(ctx, q, count.Run, in.Leg, in.Body.Hyper)
		default:
			err = q.SetHyper(ctx, count.Run, in.Body.Hyper)
		}
		if err != nil {
			return err
		}
	}
	if in.Body.Says != nil {
		changed = true
		if err := s.told(ctx, q, count.Run, in.Leg, in.Body.Says); err != nil {
			return err
		}
	}
	if len(uses) > 0 {
		changed = true
		if err := s.keepUses(ctx, q, in.Leg, uses); err != nil {
			return err
		}
	}
	for _, n := range in.Body.Notes {
		changed = true
		if err := q.AddNote(ctx, count.Run, store.Note{Leg: in.Leg, At: act.ByOurClock(ctx, n.At),
			Text: act.Clean(n.Text)}); err != nil {
			return err
		}
	}
	if !changed {
		return nil
	}
	return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: count.Run, Person: who.ID, Verb: "told"})
}

// NameCurves gives curves numbers.
func (s *Runs) NameCurves(ctx context.Context, _ act.Who, in *api.CurveNames) (*api.CurveNumbers, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	for _, name := range in.Body.Names {
		if err := curve.CheckName(name); err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
	}
	if leg, err := s.db.Leg(ctx, run, in.Leg); err != nil || leg.Recorder != in.Recorder {
		if err != nil {
			return nil, act.OrNotFound(err, "%s has no leg %d", act.RunAddress(in.Project, in.Number), in.Leg)
		}
		return nil, act.LegClaimed(act.RunAddress(in.Project, in.Number), in.Leg)
	}
	out := &api.CurveNumbers{Curves: make([]int, len(in.Body.Names))}
	err = s.db.InTx(ctx, func(q Tx) error {
		ids, err := q.CurveIDs(ctx, run, in.Body.Names)
		if err == nil && len(ids) > maxCurves {
			err = tooManyCurves(in.RunInput)
		}
		for i, name := range in.Body.Names {
			out.Curves[i] = ids[name]
		}
		return err
	})
	return out, err
}

// maxCurves is how many curves a run may have.
const maxCurves = 5000

func tooManyCurves(in api.RunInput) error {
	return api.Fail(api.Invalid, "%s would have more than %d curves", act.RunAddress(in.Project, in.Number), maxCurves)
}

// maxNotes is how many notes one batch may bring; a note has at most 10,000 bytes, as the recorder sees to.
const maxNotes = 10_000

// countedBefore is what a batch that is not the next of its leg counted as when it came before, or why it does not
// count.
func (s *Runs) countedBefore(ctx context.Context, in *api.BatchInput, run int64, c store.Count) (*api.Counted, error) {
	leg, err := s.db.Leg(ctx, run, in.Leg)
	address := act.RunAddress(in.Project, in.Number)
	switch {
	case err != nil:
		return nil, act.OrNotFound(err, "%s has no leg %d", address, in.Leg)
	case leg.Recorder != in.Recorder:
		return nil, act.LegClaimed(address, in.Leg)
	case in.Body.Number <= leg.Batches:
		return &api.Counted{Leg: in.Leg, Batch: leg.Batches, Upto: leg.Upto}, nil
	case in.Body.Number > leg.Batches+1:
		p := api.Fail(api.BatchGap, "batch %d of leg %d of %s came, but the last one counted is %d", in.Body.Number,
			in.Leg, address, leg.Batches)
		p.Batch, p.Upto = leg.Batches, leg.Upto
		return nil, p
	}
	return nil, api.Fail(api.Invalid, "batch %d goes back from step %d to step %d; within a leg the step never falls",
		in.Body.Number, leg.LastStep, c.Batch.Axis[0].Step)
}
