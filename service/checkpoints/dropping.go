package checkpoints

import (
	"context"
	"fmt"
	"time"

	"kembrel/store"

	"kembrel/api"
	"kembrel/service/act"
)

// mayDrop refuses whoever neither made a run nor is an administrator.
func (s *Checkpoints) mayDrop(ctx context.Context, who act.Who, in api.RunInput) (store.Project, store.Run, error) {
	p, _, err := s.Project(ctx, in.Project)
	if err != nil {
		return p, store.Run{}, err
	}
	_, row, _, err := s.RunWith(ctx, in)
	if err == nil && row.Creator != who.ID && !who.Administrator {
		err = api.Fail(api.Denied, "%s was made by %s; they or an administrator say what stays of it", act.RunAddress(in.Project, in.Number), row.Who)
	}
	return p, row, err
}

// DropDue drops the checkpoints whose grace period is over, one at a time, so that it may be interrupted anywhere.
func (s *Checkpoints) DropDue(ctx context.Context) error {
	after, dropped := int64(0), 0
	for {
		var due store.DueCheckpoint
		ok := false
		err := s.db.InTx(ctx, func(q Tx) (err error) {
			if due, ok, err = q.DropDueCheckpoint(ctx, after); err != nil || !ok {
				return err
			}
			return s.RunEvent(ctx, q, store.Event{Kind: "checkpoint", Run: due.Run, What: fmt.Sprintf("dropped the bytes of step %d %s", due.Step, due.Why)})
		})
		if err != nil || !ok {
			if dropped > 0 {
				s.Live.News()
			}
			return err
		}
		after = due.ID
		dropped++
	}
}

// PinCheckpoint keeps a checkpoint from being dropped, or no longer. Anybody may pin; the pin is taken away by the run's maker or an
// administrator.
func (s *Checkpoints) PinCheckpoint(ctx context.Context, who act.Who, in *api.PinInput) (*api.Checkpoint, error) {
	what := "pinned step %d"
	if !in.Body.Pinned {
		what = "no longer pinned step %d"
	}
	return s.changeCheckpoint(ctx, who, in.CheckpointInput, !in.Body.Pinned, what, func(q Tx, run, id int64) error {
		_, err := q.PinCheckpoint(ctx, run, id, in.Body.Pinned)
		return err
	})
}

// DropCheckpoint begins the grace period of a checkpoint, after which its bytes go.
func (s *Checkpoints) DropCheckpoint(ctx context.Context, who act.Who, in *api.DropInput) (*api.Checkpoint, error) {
	stay := time.Duration(in.Days * 24 * float64(time.Hour))
	c, _, id, err := s.FindHeld(ctx, in.CheckpointInput)
	if err != nil {
		return nil, err
	}
	if c.Pinned {
		return nil, api.Fail(api.Conflict, "%s is pinned; take the pin away first", c.Address)
	}
	children, err := s.children(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	what := fmt.Sprintf("will drop the bytes of step %%d in %g days", in.Days)
	if list := children[place{in.Number, c.Step}]; len(list) > 0 {
		what += fmt.Sprintf("; %v began from it", list)
	}
	return s.changeCheckpoint(ctx, who, in.CheckpointInput, true, what, func(q Tx, _, _ int64) error {
		_, err := q.CheckpointsGo(ctx, []int64{id}, stay, "as "+who.Name+" said", false)
		return err
	})
}

// KeepCheckpoint brings a checkpoint back that is about to be dropped. Where a rule said so it is pinned, or the rule would say so again.
func (s *Checkpoints) KeepCheckpoint(ctx context.Context, who act.Who, in *api.CheckpointInput) (*api.Checkpoint, error) {
	c, _, _, err := s.FindHeld(ctx, *in)
	if err != nil {
		return nil, err
	}
	if c.Goes == nil {
		return nil, api.Fail(api.Conflict, "%s stays", c.Address)
	}
	return s.changeCheckpoint(ctx, who, *in, false, "brought back step %d", func(q Tx, run, id int64) error {
		if !c.ByRule {
			_, err := q.CheckpointsStay(ctx, []int64{id}, false)
			return err
		}
		_, err := q.PinCheckpoint(ctx, run, id, true)
		return err
	})
}

// changeCheckpoint changes what becomes of a checkpoint that is held; what names the step in its event.
func (s *Checkpoints) changeCheckpoint(ctx context.Context, who act.Who, in api.CheckpointInput, makers bool, what string, change func(q Tx, run, id int64) error) (*api.Checkpoint, error) {
	c, _, id, err := s.FindHeld(ctx, in)
	if err != nil {
		return nil, err
	}
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if makers {
		if _, _, err := s.mayDrop(ctx, who, in.RunInput); err != nil {
			return nil, err
		}
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := change(q, run, id); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "checkpoint", Run: run, Person: who.ID, What: fmt.Sprintf(what, c.Step)})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.checkpointByID(ctx, in.RunInput, id)
}
