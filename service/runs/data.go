package runs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/service/act"
	"kembrel/store"
)

// UseData keeps what a run uses for something.
func (s *Runs) UseData(ctx context.Context, who act.Who, in *api.DataUseInput) (*api.None, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if err := api.CheckUse(in.Body.Use); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	uses, err := s.uses(ctx, run, []api.DataUse{in.Body})
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.LockRun(ctx, run); err != nil {
			return act.OrNotFound(err, "there is no run %s/%d", in.Project, in.Number)
		}
		if err := s.keepUses(ctx, q, in.Leg, uses); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, Verb: "told"})
	})
	if err == nil {
		s.Live.News()
	}
	return nil, err
}

// uses finds out which snapshots are meant by what a run says that it uses. One that is not known costs itself: the run
// goes on, and its page says so.
func (s *Runs) uses(ctx context.Context, run int64, said []api.DataUse) ([]store.RunData, error) {
	if len(said) > mostUses {
		return nil, api.Fail(api.Invalid, "a batch says at most %d times what is used", mostUses)
	}
	var out []store.RunData
	for _, u := range said {
		d := store.RunData{Run: run, Use: act.Clean(u.Use), Items: u.Items, Asked: act.Clean(u.Asked)}
		at, err := s.use(ctx, u)
		if err != nil {
			return nil, err
		}
		if at != nil {
			d.Snapshot, d.Split = &at.Snapshot, at.Split
			d.Address = api.DataAddress{Dataset: at.Dataset, Number: at.Number, Split: at.Split}.String()
			if d.Items == 0 {
				d.Items = at.Items
			}
		}
		out = append(out, d)
	}
	return out, nil
}

const mostUses = 100

// use finds the split that is named, or that has the fingerprints told; nil: none is known.
func (s *Runs) use(ctx context.Context, u api.DataUse) (*store.SplitAt, error) {
	named, err := api.ParseData(u.Asked)
	known := err == nil
	prints := make([]*chunk.Digest, 3)
	for i, text := range []string{u.Pairs, u.Keys, u.Digests} {
		if text == "" {
			continue
		}
		d, err := chunk.ParseDigest(text)
		if err != nil {
			return nil, api.Fail(api.Invalid, "data for %s: %v", u.Use, err)
		}
		prints[i] = &d
	}
	for i, d := range prints { // the surest first
		if d == nil {
			continue
		}
		one := make([]*chunk.Digest, 3)
		one[i] = d
		found, err := s.db.FindSplit(ctx, named.Dataset, one[0], one[1], one[2])
		if err != nil || len(found) > 0 {
			return first(found), err
		}
		return nil, nil // with less it would only seem the same
	}
	if !known {
		return nil, nil
	}
	snapshot, err := s.db.FindSnapshot(ctx, named.Dataset, named.Number)
	if errors.Is(err, store.ErrNone) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	out := &store.SplitAt{Snapshot: snapshot.ID, Dataset: snapshot.Dataset, Number: snapshot.Number, Split: named.Split,
		Items: snapshot.Items}
	if named.Split == "" {
		return out, nil
	}
	splits, err := s.db.SnapshotSplits(ctx, snapshot.ID)
	if err != nil {
		return nil, err
	}
	for _, split := range splits {
		if split.Name == named.Split {
			out.Items = split.Items
			return out, nil
		}
	}
	return nil, nil
}

func first(found []store.SplitAt) *store.SplitAt {
	if len(found) == 0 {
		return nil
	}
	return &found[0]
}

// keepUses keeps what a run uses, and says on the run what is not known.
func (s *Runs) keepUses(ctx context.Context, q Tx, leg int, uses []store.RunData) error {
	for _, u := range uses {
		if err := q.PutRunData(ctx, u); err != nil {
			return err
		}
		if u.Address != "" {
			continue
		}
		text := fmt.Sprintf("What it used for %s, %s, is no snapshot that is known.", u.Use,
			act.Many(int(u.Items), "item", "items"))
		if u.Items == 0 {
			text = fmt.Sprintf("What it said that it used for %s, %.100q, is no snapshot that is known.", u.Use, u.Asked)
		}
		if err := q.AddNote(ctx, u.Run, store.Note{Leg: leg, At: time.Now(), Text: text}); err != nil {
			return err
		}
	}
	return nil
}
