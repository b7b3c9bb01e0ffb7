package runs

import (
	"context"
	"errors"
	"fmt"

	"kembrel/store"

	"kembrel/api"
	"kembrel/service/act"
)

// ArchiveRun puts a run out of the way, or brings it back.
func (s *Runs) ArchiveRun(ctx context.Context, who act.Who, in *api.ArchiveInput) (*api.Run, error) {
	what := "brought back"
	if in.Body.Archived {
		what = "archived"
	}
	return s.changeFate(ctx, who, in.RunInput, what, func(q Tx, run int64) error { return q.ArchiveRun(ctx, run, in.Body.Archived) })
}

// DeleteRun marks a run for deletion.
func (s *Runs) DeleteRun(ctx context.Context, who act.Who, in *api.LeaveInput) (*api.Run, error) {
	if err := s.mayDelete(ctx, who, in.RunInput); err != nil {
		return nil, err
	}
	return s.changeFate(ctx, who, in.RunInput, fmt.Sprintf("will be deleted in %g days", in.Days), func(q Tx, run int64) error { return q.DoomRun(ctx, run, &in.Days) })
}

// KeepRun brings back a run that is about to be deleted.
func (s *Runs) KeepRun(ctx context.Context, who act.Who, in *api.RunInput) (*api.Run, error) {
	if err := s.mayDelete(ctx, who, *in); err != nil {
		return nil, err
	}
	return s.changeFate(ctx, who, *in, "stays", func(q Tx, run int64) error { return q.DoomRun(ctx, run, nil) })
}

// mayDelete refuses whoever neither made a run nor is an administrator, and a run that is still being written.
func (s *Runs) mayDelete(ctx context.Context, who act.Who, in api.RunInput) error {
	_, row, _, err := s.RunWith(ctx, in)
	switch {
	case err != nil:
		return err
	case row.Creator != who.ID && !who.Administrator:
		return api.Fail(api.Denied, "%s was made by %s; they or an administrator may delete it", act.RunAddress(in.Project, in.Number), row.Who)
	case row.State == "running":
		return api.Fail(api.Conflict, "%s is running; end it first", act.RunAddress(in.Project, in.Number))
	}
	return nil
}

func (s *Runs) changeFate(ctx context.Context, who act.Who, in api.RunInput, what string, change func(q Tx, run int64) error) (*api.Run, error) {
	run, err := s.RunID(ctx, in)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := change(q, run); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, What: what})
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
			return q.AddEvent(ctx, store.Event{Kind: "project", Project: r.ProjectID, What: "deleted " + act.RunAddress(r.Project, r.Number)})
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
