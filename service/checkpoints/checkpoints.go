package checkpoints

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/blob"
	"kembrel/store/pg/db"
)

func parseDigests(texts []string) ([]chunk.Digest, error) {
	out := make([]chunk.Digest, len(texts))
	for i, t := range texts {
		d, err := chunk.ParseDigest(t)
		if err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
		out[i] = d
	}
	return out, nil
}

// MissingChunks tells which chunks are not here.
func (s *Checkpoints) MissingChunks(ctx context.Context, _ act.Who, in *api.DigestListInput) (*api.DigestList, error) {
	digests, err := parseDigests(in.Body.Digests)
	if err != nil {
		return nil, err
	}
	if err := s.db.LeaseChunks(ctx, digests); err != nil {
		return nil, err
	}
	places, err := s.chunks.Places(ctx, digests)
	if err != nil {
		return nil, err
	}
	lost, err := s.chunks.Lost(ctx, places)
	if err != nil {
		return nil, err
	}
	out := &api.DigestList{Digests: []string{}}
	for _, d := range digests {
		if _, known := places[d]; !known || lost[d] { // one that was lost here is healed by being sent again
			out.Digests = append(out.Digests, d.String())
		}
	}
	return out, nil
}

// PutChunk keeps a chunk whose bytes have the digest they were announced with.
func (s *Checkpoints) PutChunk(ctx context.Context, _ act.Who, in *api.ChunkInput) (*api.None, error) {
	d, err := chunk.ParseDigest(in.Digest)
	if err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if n := len(in.RawBody); n == 0 || n > chunk.MaxSize {
		return nil, api.Fail(api.TooLarge, "a chunk has 1 to %d bytes, this one %d", chunk.MaxSize, n)
	}
	if got := chunk.Sum(in.RawBody); got != d {
		return nil, api.Fail(api.Mismatch,
			"the chunk arrived damaged: announced as %s, it is %s; send it again", d, got)
	}
	if err := s.chunks.Put(ctx, d, in.RawBody); err != nil {
		var full *blob.Full
		switch {
		case errors.As(err, &full):
			return nil, api.Fail(api.NoRoom, "%s", act.SayFull(*full))
		case db.Away(err) || errors.Is(err, blob.ErrAway):
			return nil, err
		}
		s.Log.Error("keep a chunk", "err", err)
		return nil, api.Fail(api.Unavailable, "the chunk could not be kept: %v", err)
	}
	return nil, nil
}

// CommitCheckpoint makes a checkpoint of chunks that are here. It is kept whole or not at all, and never changes.
func (s *Checkpoints) CommitCheckpoint(ctx context.Context, who act.Who,
	in *api.NewCheckpoint) (*api.Checkpoint, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "Idempotency-Key %.60q is not a UUID", in.Key)
	}
	if owner, c, err := s.db.CheckpointByKey(ctx, in.Key); err == nil {
		if owner != run {
			return nil, api.Fail(api.Conflict, "this key committed a checkpoint of another run")
		}
		return s.checkpointByID(ctx, in.RunInput, c.ID)
	} else if !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	leg, err := s.db.Leg(ctx, run, in.Leg)
	if err != nil {
		return nil, act.OrNotFound(err, "%s has no leg %d", act.RunAddress(in.Project, in.Number), in.Leg)
	}
	if leg.Recorder != in.Recorder {
		return nil, act.LegClaimed(act.RunAddress(in.Project, in.Number), in.Leg)
	}
	files, chunks, total, err := act.ToFiles(in.Body.Files)
	if err != nil {
		return nil, err
	}
	for name := range in.Body.Figures {
		if err := curve.CheckName(name); err != nil {
			return nil, api.Fail(api.Invalid, "figures: %v", err)
		}
	}
	if err := s.Safe(ctx, s.chunks, chunks); err != nil {
		return nil, err
	}
	var id int64
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := act.UseChunks(ctx, q, chunks); err != nil {
			return err
		}
		figures, err := json.Marshal(in.Body.Figures)
		if err != nil {
			return err
		}
		var added bool
		id, added, err = q.AddCheckpoint(ctx, run, store.Checkpoint{Key: in.Key, Leg: in.Leg, Step: in.Body.Step,
			Epoch: float64(in.Body.Epoch),
			Why:   act.Clean(in.Body.Why), Figures: figures, Saved: act.ByOurClock(ctx, in.Body.Saved),
			Size: total}, files)
		if err != nil {
			return err
		}
		if !added {
			return api.Fail(api.Conflict,
				"leg %d of %s has a checkpoint at step %d already; a checkpoint never changes", in.Leg,
				act.RunAddress(in.Project, in.Number), in.Body.Step)
		}
		if err := s.weights.InspectLater(ctx, q, run, id, files); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "checkpoint", Run: run, Person: who.ID,
			Subject: fmt.Sprintf("@s%d", in.Body.Step), Verb: "saved"})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.checkpointByID(ctx, in.RunInput, id)
}

// ListCheckpoints lists a run's checkpoints, latest first.
func (s *Checkpoints) ListCheckpoints(ctx context.Context, _ act.Who,
	in *api.RunInput) (*api.Page[api.Checkpoint], error) {
	items, _, err := s.Checkpoints(ctx, *in)
	return &api.Page[api.Checkpoint]{Items: items}, err
}

// Checkpoints lists a run's checkpoints without their chunks, with their ids beside.
func (s *Checkpoints) Checkpoints(ctx context.Context, in api.RunInput) ([]api.Checkpoint, []int64, error) {
	run, row, sum, err := s.RunWith(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	rows, err := s.db.ListCheckpoints(ctx, row.ID)
	if err != nil {
		return nil, nil, err
	}
	files, err := s.db.ListFiles(ctx, row.ID, 0)
	if err != nil {
		return nil, nil, err
	}
	verified, err := s.found.Verifications(ctx, row.ID)
	if err != nil {
		return nil, nil, err
	}
	byCheckpoint := map[int64][]store.File{}
	for _, f := range files {
		byCheckpoint[f.Checkpoint] = append(byCheckpoint[f.Checkpoint], f)
	}
	ends, err := s.LegEnds(ctx, row.ID)
	if err != nil {
		return nil, nil, err
	}
	out, ids, stands := make([]api.Checkpoint, len(rows)), make([]int64, len(rows)), make([]checkpoint.Stand, len(rows))
	for i, r := range rows {
		stands[i] = checkpoint.Stand{Leg: r.Leg, Step: r.Step, Epoch: r.Epoch, Replaced: r.Step >= ends[r.Leg]}
	}
	addresses := checkpoint.Addresses(stands)
	held, err := s.db.Held(ctx, store.HeldQuery{By: "checkpoint", Run: row.ID})
	if err != nil {
		return nil, nil, err
	}
	best := -1
	o := run.Objective
	if b, ok := o.Best(sum.Core()); ok && sum.Count > 0 {
		best = slices.IndexFunc(rows, func(r store.Checkpoint) bool { return r.Step <= b.Step && r.Step < ends[r.Leg] })
		if best >= 0 && rows[best].Dropped != nil { // the best of those held, by the figures they were saved with
			best = bestHeld(o, rows, ends)
		}
	}
	last := slices.IndexFunc(rows, func(r store.Checkpoint) bool { return r.Dropped == nil && r.Step < ends[r.Leg] })
	for i, r := range rows {
		ids[i] = r.ID
		c := api.Checkpoint{Address: api.Address{Project: in.Project, Run: in.Number, At: addresses[i]}.String(),
			Leg: r.Leg, Step: r.Step, Epoch: api.Float(r.Epoch),
			Why: r.Why, Saved: r.Saved, Size: r.Size, Best: i == best, Last: i == last, Replaced: stands[i].Replaced,
			Verified: verified[r.ID], Parts: []string{}, Files: []api.File{},
			Pinned: r.Pinned, DeleteAt: r.Goes, Dropped: r.Dropped, WhyDeleted: r.WhyGoes, ByRule: r.ByRule,
			Stored: held[r.ID].Stored, Frees: held[r.ID].Own}
		if err := json.Unmarshal(r.Figures, &c.Figures); err != nil {
			return nil, nil, err
		}
		for _, f := range byCheckpoint[r.ID] {
			if !slices.Contains(c.Parts, f.Part) {
				c.Parts = append(c.Parts, f.Part)
			}
			c.Files = append(c.Files, api.File{Part: f.Part, Path: f.Path, Size: f.Size,
				Digest: chunk.Digest(f.Digest).String()})
		}
		c.UsableFor = checkpoint.UsableFor(c.Parts, row.NeedsOrUsual())
		c.Lacks = checkpoint.Lacks(c.Parts, row.NeedsOrUsual())
		if c.Dropped != nil {
			c.UsableFor = "nothing"
		}
		out[i] = c
	}
	return out, ids, nil
}

// better reports whether a figure of the objective is better than another; NaN is not.
func better(o verdict.Objective, a, b float64) bool {
	return !math.IsNaN(a) && (math.IsNaN(b) || o.Direction == verdict.Higher && a > b ||
		o.Direction != verdict.Higher && a < b)
}

// bestHeld finds the checkpoint with the best figure among those of the present course that are held; -1: none has one.
func bestHeld(o verdict.Objective, rows []store.Checkpoint, ends map[int]int64) int {
	best, value := -1, math.NaN()
	for i, r := range rows {
		var figures map[string]api.Float
		if r.Dropped != nil || r.Step >= ends[r.Leg] || json.Unmarshal(r.Figures, &figures) != nil {
			continue
		}
		v, ok := figures[o.Curve]
		if ok && better(o, float64(v), value) {
			best, value = i, float64(v)
		}
	}
	return best
}

func (s *Checkpoints) checkpointByID(ctx context.Context, in api.RunInput, id int64) (*api.Checkpoint, error) {
	items, ids, err := s.Checkpoints(ctx, in)
	if err != nil {
		return nil, err
	}
	i := slices.Index(ids, id)
	if i < 0 {
		return nil, api.Fail(api.NotFound, "the checkpoint is gone")
	}
	return &items[i], nil
}

// GetCheckpoint shows a checkpoint with the chunks of its files.
func (s *Checkpoints) GetCheckpoint(ctx context.Context, _ act.Who, in *api.CheckpointInput) (*api.Checkpoint, error) {
	c, files, err := s.Find(ctx, *in)
	if err != nil {
		return nil, err
	}
	for i := range c.Files {
		for _, f := range files {
			if f.Path != c.Files[i].Path {
				continue
			}
			pieces, err := chunk.Unpack(f.Chunks)
			if err != nil {
				return nil, err
			}
			for _, p := range pieces {
				c.Files[i].Chunks = append(c.Files[i].Chunks, api.Piece{Digest: p.Digest.String(), Size: p.Size})
			}
		}
	}
	return c, nil
}

// Find resolves an address of a checkpoint.
func (s *Checkpoints) Find(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, error) {
	c, files, _, err := s.FindWith(ctx, in)
	return c, files, err
}

// FindHeld is find for a checkpoint whose bytes are wanted, with its id: one that was dropped is gone.
func (s *Checkpoints) FindHeld(ctx context.Context,
	in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error) {
	c, files, id, err := s.FindWith(ctx, in)
	if err == nil && c.Dropped != nil {
		err = api.Fail(api.Gone, "the bytes of %s were dropped on %s %s; its figures and digests are still here",
			c.Address, c.Dropped.UTC().Format("2 January 2006 15:04 MST"), c.WhyDeleted)
	}
	return c, files, id, err
}

// FindWith is Find with the id of the checkpoint.
func (s *Checkpoints) FindWith(ctx context.Context,
	in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error) {
	none := func(err error) (*api.Checkpoint, []store.File, int64, error) { return nil, nil, 0, err }
	at, err := api.ParseAt(in.At)
	if err != nil {
		return none(api.Fail(api.Invalid, "%v; write e12, s4800, best or last", err))
	}
	items, ids, err := s.Checkpoints(ctx, in.RunInput)
	if err != nil {
		return none(err)
	}
	address := act.RunAddress(in.Project, in.Number)
	stands := make([]checkpoint.Stand, len(items))
	for i, c := range items {
		stands[i] = checkpoint.Stand{Leg: c.Leg, Step: c.Step, Epoch: float64(c.Epoch), Replaced: c.Replaced,
			Best: c.Best, Last: c.Last}
	}
	i := checkpoint.Find(stands, at)
	replaced := slices.IndexFunc(items, func(c api.Checkpoint) bool {
		return c.Replaced && c.Step == at.Step && at.Kind == api.AtStep && at.Leg == 0
	})
	switch {
	case i >= 0:
	case replaced >= 0:
		return none(api.Fail(api.NotFound,
			"%s has no checkpoint @%s in its present course; the one that was there was replaced by a later leg: %s",
			address, in.At, items[replaced].Address))
	case len(items) == 0:
		return none(api.Fail(api.NotFound, "%s has no checkpoint", address))
	case at.Kind == api.AtBest:
		return none(api.Fail(api.NotFound,
			"%s has no checkpoint at or before the best reading of its objective; kembrel checkpoints %s lists those it has", address, address))
	default:
		return none(api.Fail(api.NotFound, "%s has no checkpoint @%s; kembrel checkpoints %s lists those it has",
			address, in.At, address))
	}
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return none(err)
	}
	files, err := s.db.ListFiles(ctx, run, ids[i])
	return &items[i], files, ids[i], err
}
