package datasets

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

// KeepLooking looks at snapshots that were made, until ctx ends: at once where this replica made them, and else within
// a minute. What happens twice happens once: the first who has answers keeps them.
func (s *Datasets) KeepLooking(ctx context.Context) {
	t := time.NewTicker(lookPace)
	defer t.Stop()
	for {
		if err := s.LookAt(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("looking at snapshots waits", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case <-s.wake:
		}
	}
}

// LookAt looks at the snapshots that were not looked at yet, one after another.
func (s *Datasets) LookAt(ctx context.Context) error {
	s.looking.Lock()
	defer s.looking.Unlock()
	if err := s.db.ClearDrafts(ctx); err != nil {
		return err
	}
	ids, err := s.db.Unanswered(ctx)
	if err != nil {
		return err
	}
	var waits error
	for _, id := range ids {
		if err := s.db.TrySnapshot(ctx, id); err != nil {
			return err
		}
		err := s.look(ctx, id)
		if err == nil {
			continue
		}
		var unreadable *pack.Unreadable
		failed := "" // most errors are of the moment: the disk is full, a store is away
		if errors.As(err, &unreadable) && !errors.Is(err, pack.ErrMissing) {
			failed = "its file cannot be read"
		}
		s.Log.Warn("looking at a snapshot waits", "snapshot", id, "failed", failed, "err", err)
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		err = s.db.UntrySnapshot(ending, id, failed)
		cancel()
		if waits = errors.Join(waits, err); ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return waits
}

// lookedAt is what is kept of looking at a snapshot.
type lookedAt struct {
	*dataset.Findings
	Changes *dataset.ItemChanges `json:"changes,omitempty"`
	Against int                  `json:"against,omitempty"` // number of the snapshot that the changes are against
}

func (s *Datasets) look(ctx context.Context, id int64) error {
	row, err := s.db.SnapshotByID(ctx, id)
	if err != nil {
		return err
	}
	f, err := s.open(ctx, row)
	if err != nil {
		return err
	}
	answers, marks, err := kept.Check(f, row.Rows)
	if err != nil {
		return err
	}
	pieces, _, err := s.chunks.Keep(ctx, bytes.NewReader(kept.EncodeMarks(marks)))
	if err != nil {
		return err
	}
	if err := s.chunks.Flush(ctx); err != nil {
		return err
	}
	looked := lookedAt{Findings: answers}
	if against := cmp.Or(act.Deref(row.Base), row.Number-1); against > 0 {
		if looked.Changes, err = s.differ(ctx, row, against); err != nil {
			return err
		}
		looked.Against = against
	}
	text, err := json.Marshal(looked)
	if err != nil {
		return err
	}
	var digests []chunk.Digest
	for _, p := range pieces {
		if !slices.Contains(digests, p.Digest) {
			digests = append(digests, p.Digest)
		}
	}
	return s.db.InTx(ctx, func(q Tx) error {
		first, err := q.AnswerSnapshot(ctx, id, text, chunk.Pack(pieces))
		if err != nil || !first {
			return err
		}
		if got, err := q.UseChunks(ctx, digests); err != nil {
			return err
		} else if len(got) != len(digests) {
			return pack.ErrMissing // tried again
		}
		return s.Event(ctx, q, store.Event{Kind: "snapshot", Verb: "looked-at", Subject: address(row),
			Data: map[string]any{"leaking": leaks(answers)}})
	})
}
