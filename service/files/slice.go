package files

import (
	"context"
	"encoding/json"

	"kembrel/core/chunk"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
	"kembrel/store/pack"
)

// Storage is what this slice needs of the store.
type Storage interface {
	DueRunFiles(ctx context.Context) ([]store.DueRunFile, error)
	FileRule(ctx context.Context, project int64) (json.RawMessage, error)
	ListEvaluations(ctx context.Context, e store.EvaluationQuery) ([]store.Evaluation, error)
	ListRunFiles(ctx context.Context, f store.RunFileQuery) ([]store.RunFile, error)
	RunFileByKey(ctx context.Context, key string) (run int64, path string, evaluation int, err error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx
	act.Chunks
	DropRunFile(ctx context.Context, run, evaluation int64, path string) (bool, error)
	LockRunFiles(ctx context.Context, run int64) (count int, err error)
	PutRunFile(ctx context.Context, f store.NewRunFile) error
	SetFileRule(ctx context.Context, project int64, rule any) error
}

// Files answers for files of runs.
type Files struct {
	*finding.Finder
	db     Storage
	chunks *pack.Packs

	looking chan struct{} // so many are read to be shown or compared at a time
}

// New makes the slice.
func New(f *finding.Finder, db Storage, chunks *pack.Packs) *Files {
	return &Files{Finder: f, db: db, chunks: chunks, looking: make(chan struct{}, 2)}
}

// open opens a file.
func (s *Files) open(ctx context.Context, f store.RunFile) (*pack.Reader, error) {
	pieces, err := chunk.Unpack(f.Chunks)
	if err != nil {
		return nil, err
	}
	return s.chunks.NewReader(ctx, f.Path, pieces), nil
}
