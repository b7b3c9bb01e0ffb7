package checkpoints

import (
	"context"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/service/finding"
	"kembrel/store"
	"kembrel/store/pack"
)

// Weights has files of weights looked into.
type Weights interface {
	InspectLater(ctx context.Context, q store.InTx, run, id int64, files []store.File) error
}

// Evaluations knows which checkpoints were verified.
type Evaluations interface {
	Verifications(ctx context.Context, run int64) (map[int64][]api.Verification, error)
}

// Checkpoints answers for checkpoints and the chunks that they are made of.
type Checkpoints struct {
	*finding.Finder
	db      Storage
	chunks  *pack.Packs
	weights Weights
	found   Evaluations

	sizing sync.Mutex
	sizes  map[int64]heldBytes // by project; 0: all

	readyAt struct { // what the blob store said last when asked whether it is there
		mutex sync.Mutex
		at    time.Time
		err   error
	}
}

// New makes the slice.
func New(f *finding.Finder, db Storage, chunks *pack.Packs, w Weights, e Evaluations) *Checkpoints {
	return &Checkpoints{Finder: f, db: db, chunks: chunks, weights: w, found: e}
}
