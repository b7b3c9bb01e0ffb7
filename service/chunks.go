package service

import (
	"context"
	"time"
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
			s.cleanChunks(ctx)
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
	did, err := s.chunks.Clean(ctx, s.db)
	if err != nil && ctx.Err() == nil {
		s.options.Log.Warn("cleaning waits", "err", err)
	}
	if forgotten > 0 || did.Packs > 0 || did.Rewrote > 0 {
		s.options.Log.Info("cleaned the chunks", "forgotten", forgotten, "packs", did.Packs, "bytes", did.Freed, "moved", did.Rewrote)
	}
}
