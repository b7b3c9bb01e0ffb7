package runs

import (
	"context"
	"errors"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// ArchiveRun puts a run out of the way, or brings it back.
func (s *Runs) ArchiveRun(ctx context.Context, who act.Who, in *api.ArchiveInput) (*api.Run, error) {
	did := act.Did{Verb: "unarchived"}
	if in.Body.Archived {
		did.Verb = "archived"
	}
	return s.changeFate(ctx, who, in.RunInput, did,
		func(q Tx, run int64) error { return q.ArchiveRun(ctx, run, in.Body.Archived) })
}

// DeleteRun marks a run for deletion.
func (s *Runs) DeleteRun(ctx context.Context, who act.Who, in *api.LeaveInput) (*api.Run, error) {
	if err := s.ended(ctx, in.RunInput); err != nil {
		return nil, err
	}
	return s.changeFate(ctx, who, in.RunInput, act.Did{Verb: "to-be-deleted", Data: map[string]any{"days": in.Days}},
		func(q Tx, run int64) error { return q.DoomRun(ctx, run, &in.Days) })
}

// KeepRun brings back a run that is about to be deleted.
func (s *Runs) KeepRun(ctx context.Context, who act.Who, in *api.RunInput) (*api.Run, error) {
	if err := s.ended(ctx, *in); err != nil {
		return nil, err
	}
	return s.changeFate(ctx, who, *in, act.Did{Verb: "kept"},
		func(q Tx, run int64) error { return q.DoomRun(ctx, run, nil) })
}

// ended refuses a run that is still being written.
func (s *Runs) ended(ctx context.Context, in api.RunInput) error {
	_, row, _, err := s.RunWith(ctx, in)
	switch {
	case err != nil:
		return err
	case row.State == "running":
		return api.Fail(api.Conflict, "%s is running; end it first", act.RunAddress(in.Project, in.Number))
	}
	return nil
}

func (s *Runs) changeFate(ctx context.Context, who act.Who, in api.RunInput, did act.Did,
	change func(q Tx, run int64) error) (*api.Run, error) {
	run, err := s.RunID(ctx, in)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := change(q, run); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.Run(ctx, in)
}

// errStays takes back what was begun with a run that is not deleted after all.
var errStays = errors.New("the run stays")

// EraseRuns deletes the runs whose grace period is over.
func (s *Runs) EraseRuns(ctx context.Context) error {
	due, err := s.db.DueRuns(ctx)
	for _, r := range due {
		failed := s.db.InTx(ctx, func(q Tx) error {
			if err := q.ReleaseChunks(ctx, r.ID, 0); err != nil {
				return err
			}
			gone, err := q.EraseRun(ctx, r.ID)
			if err != nil {
				return err
			}
			if !gone { // somebody kept it a moment ago: so its chunks are held as before
				return errStays
			}
			return s.Event(ctx, q, store.Event{Kind: "run", Subject: act.RunAddress(r.Project, r.Number),
				Project: r.ProjectID, Verb: "deleted"})
		})
		if !errors.Is(failed, errStays) {
			err = errors.Join(err, failed)
		}
	}
	if len(due) > 0 {
		s.Forget()
		s.Live.News()
	}
	return err
}
