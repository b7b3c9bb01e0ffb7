package checkpoints

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/service/act"
	"kembrel/store/pack"
)

// How often chunks that no commit has made safe yet are, and how often the store is cleaned. What nobody holds stays
// for a day: longer than any upload takes.
const (
	flushPace  = 10 * time.Second
	cleanPace  = 10 * time.Minute
	looseGrace = 24 * time.Hour
)

// KeepChunks makes chunks safe that wait for their commit, and cleans the store now and then, until ctx ends.
func (s *Checkpoints) KeepChunks(ctx context.Context) {
	flush, clean := time.NewTicker(flushPace), time.NewTicker(cleanPace)
	defer flush.Stop()
	defer clean.Stop()
	s.cleanChunks(ctx) // also moves what an earlier version kept
	for {
		var err error
		select {
		case <-ctx.Done():
			ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			if err := s.chunks.Close(ending); err != nil {
				s.Log.Warn("chunks wait", "err", err)
			}
			return
		case <-flush.C:
			err = s.chunks.Flush(ctx)
		case <-clean.C:
			if err := s.keepRules(ctx); err != nil && ctx.Err() == nil {
				s.Log.Warn("keep rules wait", "err", err)
			}
			s.cleanChunks(ctx)
			s.checkWindow(ctx, time.Now())
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Warn("chunks wait", "err", err)
		}
	}
}

// FreeStorage gives back at once the bytes that no checkpoint holds any more, which cleaning would free within about a
// day. A checkpoint that is being sent meanwhile may have to be sent again.
func (s *Checkpoints) FreeStorage(ctx context.Context, _ act.Who, in *api.FreeInput) (*api.Freed, error) {
	totals, err := s.db.ChunkTotals(ctx)
	if err != nil {
		return nil, err
	}
	out := &api.Freed{Loose: totals.Loose, Disk: s.Disk()}
	if !in.Body.Now {
		return out, nil
	}
	if err := s.keepRules(ctx); err != nil {
		return nil, err
	}
	for {
		n, err := s.db.CleanChunks(ctx, 0)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			break
		}
	}
	var did pack.Cleaned
	turn, err := s.db.WhileCleaning(ctx, func() (err error) {
		did, err = s.chunks.FreeNow(ctx, s.db)
		return err
	})
	out.Packs, out.Freed, out.Disk = did.Packs, did.Freed, s.Disk()
	if err == nil && !turn {
		return nil, api.Fail(api.Conflict, "another is cleaning just now; try again in a moment")
	}
	if totals, err := s.db.ChunkTotals(ctx); err == nil {
		out.Loose = totals.Loose
	}
	return out, err
}

// cleanChunks frees what no checkpoint holds any more.
func (s *Checkpoints) cleanChunks(ctx context.Context) {
	forgotten := int64(0)
	for {
		n, err := s.db.CleanChunks(ctx, looseGrace)
		if err != nil {
			if ctx.Err() == nil {
				s.Log.Warn("cleaning waits", "err", err)
			}
			return
		}
		if forgotten += n; n == 0 {
			break
		}
	}
	var did pack.Cleaned
	_, err := s.db.WhileCleaning(ctx, func() (err error) {
		did, err = s.chunks.Clean(ctx, s.db)
		return err
	})
	if err != nil && ctx.Err() == nil {
		s.Log.Warn("cleaning waits", "err", err)
	}
	if forgotten > 0 || did.Packs > 0 || did.Rewrote > 0 {
		s.Log.Info("cleaned the chunks", "forgotten", forgotten, "packs", did.Packs, "bytes", did.Freed,
			"moved", did.Rewrote)
	}
}

// GetBlobs tells what the chunk store holds.
func (s *Checkpoints) GetBlobs(ctx context.Context, _ act.Who, _ *struct{}) (*api.BlobTotals, error) {
	t, err := s.db.ChunkTotals(ctx)
	return &api.BlobTotals{Checkpoints: t.Checkpoints, Held: t.Held, Chunks: t.Chunks, Bytes: t.Bytes, Stored: t.Stored,
		Loose: t.Loose, Damaged: t.Damaged, Missing: t.Missing}, err
}

// checkTime bounds one call of CheckBlobs.
const checkTime = 20 * time.Second

// CheckBlobs reads a part of the chunk store and checks every digest, in the order in which the chunks lie.
func (s *Checkpoints) CheckBlobs(ctx context.Context, _ act.Who, in *api.CheckBlobsInput) (*api.CheckedBlobs, error) {
	var after pack.Entry
	if in.Body.After != "" {
		name, rest, _ := strings.Cut(in.Body.After, "@")
		at, digest, _ := strings.Cut(rest, "@")
		var err1, err2 error
		after.Pack = name
		after.At, err1 = strconv.ParseInt(at, 10, 64)
		after.Digest, err2 = chunk.ParseDigest(digest)
		if err1 != nil || err2 != nil {
			return nil, api.Fail(api.Invalid, "after %.100q is none that an answer gave", in.Body.After)
		}
	}
	if in.Body.Share == 0 {
		in.Body.Share = 1
	}
	if in.Body.Limit == 0 {
		in.Body.Limit = 100
	}
	var digest []byte
	if in.Body.After != "" {
		digest = after.Digest[:]
	}
	list, err := s.db.ChunksBehind(ctx, after.Pack, after.At, digest, in.Body.Share, in.Body.Limit)
	if err != nil {
		return nil, err
	}
	out, done, err := s.checkChunks(ctx, list, checkTime)
	if err == nil && done > 0 && (done < len(list) || len(list) == in.Body.Limit) {
		last := list[done-1]
		out.Next = fmt.Sprintf("%s@%d@%s", last.Pack, last.At, last.Digest)
	}
	return out, err
}

// errLate ends a check whose time is over.
var errLate = errors.New("time is over")

// checkChunks checks chunks, as many as it can in a time, and returns how many.
func (s *Checkpoints) checkChunks(ctx context.Context, list []pack.Entry,
	most time.Duration) (out *api.CheckedBlobs, done int, err error) {
	out = &api.CheckedBlobs{Damaged: []api.DamagedChunk{}}
	began := time.Now()
	err = s.chunks.Check(ctx, list, func(e pack.Entry, why error) error {
		missing := errors.Is(why, pack.ErrMissing)
		switch {
		case errors.Is(why, pack.ErrNone): // cleaned away meanwhile
			done++
			return nil
		case why != nil && !missing && !errors.Is(why, pack.ErrDamaged):
			return why
		}
		done++
		out.Chunks++
		out.Bytes += int64(e.Size)
		if why != nil {
			holders, err := s.db.Holders(ctx, e.Digest)
			if err != nil {
				return err
			}
			d := api.DamagedChunk{Digest: e.Digest.String(), Size: int64(e.Size), Missing: missing, Why: why.Error(),
				Checkpoints: []string{}}
			for _, h := range holders {
				d.Checkpoints = append(d.Checkpoints, act.CheckpointAddress(h.Project, h.Number, h.Standing))
			}
			out.Damaged = append(out.Damaged, d)
		}
		if time.Since(began) > most {
			return errLate
		}
		return nil
	})
	if errors.Is(err, errLate) {
		err = nil
	}
	return out, done, err
}

// windows is into how many parts the digests are divided; each time the store is cleaned the next is checked, all of
// them in 30 days.
const windows = 30 * 24 * 6

// checkWindow checks the part of the store whose turn it is.
func (s *Checkpoints) checkWindow(ctx context.Context, now time.Time) {
	turn := uint64(now.Unix()/int64(cleanPace/time.Second)) % windows
	from, to := make([]byte, 8), make([]byte, 8)
	binary.BigEndian.PutUint64(from, turn*(math.MaxUint64/windows))
	binary.BigEndian.PutUint64(to, (turn+1)*(math.MaxUint64/windows))
	for after := from; ; {
		list, err := s.db.ChunkSlice(ctx, after, to, 200)
		var found *api.CheckedBlobs
		done := 0
		if err == nil {
			found, done, err = s.checkChunks(ctx, list, time.Minute)
		}
		if err != nil {
			if ctx.Err() == nil {
				s.Log.Warn("checking chunks waits", "err", err)
			}
			return
		}
		for _, d := range found.Damaged {
			s.Log.Error("a chunk cannot be read; sending the same content again heals it", "digest", d.Digest,
				"missing", d.Missing, "checkpoints", d.Checkpoints)
		}
		if done == 0 || done == len(list) && done < 200 {
			return
		}
		after = list[done-1].Digest[:]
	}
}
