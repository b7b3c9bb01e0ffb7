package service

import (
	"context"
	"encoding/binary"
	"errors"
	"math"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/store/pack"
)

// How often chunks that no commit has made safe yet are, and how often the store is cleaned. What nobody holds stays for a day: longer than any
// upload takes.
const (
	flushPace  = 10 * time.Second
	cleanPace  = 10 * time.Minute
	looseGrace = 24 * time.Hour
)

// keepChunks makes chunks safe that wait for their commit, and cleans the store now and then, until ctx ends.
func (s *Service) keepChunks(ctx context.Context) {
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
				s.options.Log.Warn("chunks wait", "err", err)
			}
			return
		case <-flush.C:
			err = s.chunks.Flush(ctx)
		case <-clean.C:
			if err := s.keepRules(ctx); err != nil && ctx.Err() == nil {
				s.options.Log.Warn("keep rules wait", "err", err)
			}
			s.cleanChunks(ctx)
			s.checkWindow(ctx, time.Now())
		}
		if err != nil && ctx.Err() == nil {
			s.options.Log.Warn("chunks wait", "err", err)
		}
	}
}

// cleanChunks frees what no checkpoint holds any more.
func (s *Service) cleanChunks(ctx context.Context) {
	forgotten := int64(0)
	for {
		n, err := s.db.CleanChunks(ctx, looseGrace)
		if err != nil {
			if ctx.Err() == nil {
				s.options.Log.Warn("cleaning waits", "err", err)
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
		s.options.Log.Warn("cleaning waits", "err", err)
	}
	if forgotten > 0 || did.Packs > 0 || did.Rewrote > 0 {
		s.options.Log.Info("cleaned the chunks", "forgotten", forgotten, "packs", did.Packs, "bytes", did.Freed, "moved", did.Rewrote)
	}
}

// GetBlobs tells what the chunk store holds.
func (s *Service) GetBlobs(ctx context.Context, _ Who, _ *struct{}) (*api.BlobTotals, error) {
	t, err := s.db.ChunkTotals(ctx)
	return &api.BlobTotals{Checkpoints: t.Checkpoints, Held: t.Held, Chunks: t.Chunks, Bytes: t.Bytes, Stored: t.Stored, Loose: t.Loose, Damaged: t.Damaged}, err
}

// checkTime bounds one call of CheckBlobs.
const checkTime = 20 * time.Second

// CheckBlobs reads a part of the chunk store and checks every digest.
func (s *Service) CheckBlobs(ctx context.Context, _ Who, in *api.CheckBlobsInput) (*api.CheckedBlobs, error) {
	var after []byte
	if in.Body.After != "" {
		d, err := chunk.ParseDigest(in.Body.After)
		if err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
		after = d[:]
	}
	if in.Body.Share == 0 {
		in.Body.Share = 1
	}
	if in.Body.Limit == 0 {
		in.Body.Limit = 100
	}
	return s.checkChunks(ctx, after, nil, in.Body.Share, in.Body.Limit, checkTime)
}

func (s *Service) checkChunks(ctx context.Context, after, upto []byte, share float64, limit int, most time.Duration) (*api.CheckedBlobs, error) {
	out := &api.CheckedBlobs{Damaged: []api.DamagedChunk{}}
	list, err := s.db.ChunkSlice(ctx, after, upto, share, limit)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for i, c := range list {
		if time.Since(began) > most {
			out.Next = list[i-1].Digest.String()
			return out, nil
		}
		_, why := s.chunks.Get(ctx, c.Digest)
		switch {
		case errors.Is(why, pack.ErrNone) && c.Damaged:
			why = errors.New("found damaged before")
		case errors.Is(why, pack.ErrNone):
			continue // cleaned away meanwhile
		case why != nil && !errors.Is(why, pack.ErrDamaged):
			return nil, why
		}
		out.Chunks++
		out.Bytes += int64(c.Size)
		if why == nil {
			continue
		}
		holders, err := s.db.Holders(ctx, c.Digest)
		if err != nil {
			return nil, err
		}
		d := api.DamagedChunk{Digest: c.Digest.String(), Size: int64(c.Size), Why: why.Error(), Checkpoints: []string{}}
		for _, h := range holders {
			d.Checkpoints = append(d.Checkpoints, checkpointAddress(h.Project, h.Number, h.Step, h.Epoch))
		}
		out.Damaged = append(out.Damaged, d)
	}
	if len(list) == limit {
		out.Next = list[limit-1].Digest.String()
	}
	return out, nil
}

// windows is into how many parts the digests are divided; each time the store is cleaned the next is checked, all of them in 30 days.
const windows = 30 * 24 * 6

// checkWindow checks the part of the store whose turn it is.
func (s *Service) checkWindow(ctx context.Context, now time.Time) {
	turn := uint64(now.Unix()/int64(cleanPace/time.Second)) % windows
	from, to := make([]byte, 8), make([]byte, 8)
	binary.BigEndian.PutUint64(from, turn*(math.MaxUint64/windows))
	binary.BigEndian.PutUint64(to, (turn+1)*(math.MaxUint64/windows))
	for after := from; ; {
		found, err := s.checkChunks(ctx, after, to, 1, 200, time.Minute)
		if err != nil {
			if ctx.Err() == nil {
				s.options.Log.Warn("checking chunks waits", "err", err)
			}
			return
		}
		for _, d := range found.Damaged {
			s.options.Log.Error("a chunk is damaged; sending the same content again heals it", "digest", d.Digest, "checkpoints", d.Checkpoints)
		}
		if found.Next == "" {
			return
		}
		d, _ := chunk.ParseDigest(found.Next) // our own
		after = d[:]
	}
}
