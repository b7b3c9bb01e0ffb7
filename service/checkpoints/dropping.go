package checkpoints

import (
	"context"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

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
			return s.RunEvent(ctx, q, store.Event{Kind: "checkpoint", Run: due.Run,
				Subject: fmt.Sprintf("@s%d", due.Step), Verb: "bytes-dropped", Data: map[string]any{"why": due.Why}})
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

// PinCheckpoint keeps a checkpoint from being dropped, or no longer.
func (s *Checkpoints) PinCheckpoint(ctx context.Context, who act.Who, in *api.PinInput) (*api.Checkpoint, error) {
	did := act.Did{Verb: "pinned"}
	if !in.Body.Pinned {
		did.Verb = "unpinned"
	}
	return s.changeCheckpoint(ctx, who, in.CheckpointInput, did, func(q Tx, run, id int64) error {
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
	did := act.Did{Verb: "to-be-dropped", Data: map[string]any{"days": in.Days}}
	if list := children[place{in.Number, c.Step}]; len(list) > 0 {
		did.Data["began_from_it"] = len(list) // how many: which may be of projects that readers of this do not see
	}
	return s.changeCheckpoint(ctx, who, in.CheckpointInput, did, func(q Tx, _, _ int64) error {
		_, err := q.CheckpointsGo(ctx, []int64{id}, stay, "as "+who.Name+" said", false)
		return err
	})
}

// KeepCheckpoint brings a checkpoint back that is about to be dropped. Where a rule said so it is pinned, or the rule
// would say so again.
func (s *Checkpoints) KeepCheckpoint(ctx context.Context, who act.Who,
	in *api.CheckpointInput) (*api.Checkpoint, error) {
	c, _, _, err := s.FindHeld(ctx, *in)
	if err != nil {
		return nil, err
	}
	if c.DeleteAt == nil {
		return nil, api.Fail(api.Conflict, "%s stays", c.Address)
	}
	return s.changeCheckpoint(ctx, who, *in, act.Did{Verb: "kept"}, func(q Tx, run, id int64) error {
		if !c.ByRule {
			_, err := q.CheckpointsStay(ctx, []int64{id}, false)
			return err
		}
		_, err := q.PinCheckpoint(ctx, run, id, true)
		return err
	})
}

// changeCheckpoint changes what becomes of a checkpoint that is held.
func (s *Checkpoints) changeCheckpoint(ctx context.Context, who act.Who, in api.CheckpointInput, did act.Did,
	change func(q Tx, run, id int64) error) (*api.Checkpoint, error) {
	c, _, id, err := s.FindHeld(ctx, in)
	if err != nil {
		return nil, err
	}
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := change(q, run, id); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "checkpoint", Run: run, Subject: c.Address, Person: who.ID,
			Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.checkpointByID(ctx, in.RunInput, id)
}
