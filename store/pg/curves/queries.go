package curves

import (
	"context"
	"embed"
	"sync"
	"sync/atomic"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// Files are the queries of this slice.
//
//go:embed *.sql
var Files embed.FS

// Queries ask the database.
type Queries struct{ db.Q }

// Store counts batches in groups, seals the journal and reads curves.
type Store struct {
	db         *db.DB
	q          Queries
	claims     chan claim // batches for the next common commit
	closing    chan struct{}
	committers sync.WaitGroup
	// When the group under way was begun, in nanoseconds since 1970; 0: none is.
	committing atomic.Int64
	names      nameCache
}

// New makes it; it works until Close.
func New(d *db.DB) *Store {
	s := &Store{db: d, q: Queries{d.Q}, claims: make(chan claim, groupSize), closing: make(chan struct{}),
		names: nameCache{runs: map[int64]*store.RunCurves{}}}
	s.committers.Go(func() { s.commitGroups(false) })
	s.committers.Go(func() { s.commitGroups(true) })
	return s
}

// Close waits for the groups under way.
func (s *Store) Close() {
	close(s.closing)
	s.committers.Wait()
}

func (s *Store) inTx(ctx context.Context, do func(q Queries) error) error {
	return s.db.InTx(ctx, func(q db.Q) error { return do(Queries{q}) })
}
