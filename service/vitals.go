package service

import (
	"context"
	"maps"
	"sync"
	"time"

	"kembrel/service/act"
	"kembrel/store/pg/db"
)

// Vitals are how the service itself stands, for those who look after it.
type Vitals struct {
	Pools     []db.PoolState
	Jobs      []db.JobCount
	Recorders int64 // heard of within a minute
	Events    map[act.Happened]int64
	Blobs     map[string]BlobVitals // by what was asked of the store
}

// BlobVitals are how often something was asked of the blob store, how often in vain, and how long it took in all.
type BlobVitals struct {
	Asked, Failed int64
	Took          time.Duration
}

// blobVitals gathers them.
type blobVitals struct {
	mutex sync.Mutex
	of    map[string]BlobVitals
}

func (b *blobVitals) heard(what string, took time.Duration, err error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	v := b.of[what]
	v.Asked, v.Took = v.Asked+1, v.Took+took
	if err != nil {
		v.Failed++
	}
	b.of[what] = v
}

func (b *blobVitals) all() map[string]BlobVitals {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return maps.Clone(b.of)
}

// Vitals asks how the service stands. What cannot be asked, as the database is away, is left out and err says why.
func (s *Service) Vitals(ctx context.Context) (Vitals, error) {
	out := Vitals{Pools: s.db.PoolStates(), Events: s.Counts(), Blobs: s.blobs.all()}
	limited, cancel := context.WithTimeout(db.In(ctx, db.Jobs), 5*time.Second)
	defer cancel()
	var err error
	if out.Jobs, err = s.db.JobCounts(limited); err != nil {
		return out, err
	}
	out.Recorders, err = s.db.RecordersHeard(limited)
	return out, err
}
