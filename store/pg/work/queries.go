package work

import (
	"context"
	"embed"
	"encoding/json"
	"time"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// Files are the queries of this slice.
//
//go:embed *.sql
var Files embed.FS

// Queries ask the database.
type Queries struct{ db.Q }

// AddWork accepts work. Work of the same key stays as it is.
func (q Queries) AddWork(ctx context.Context, w store.Work) error {
	_, err := q.Exec(ctx, "work_add", db.A{"key": w.Key, "kind": w.Kind, "run": w.Run, "person": w.Person,
		"request": w.Request})
	return err
}

// FindWork finds work by its key.
func (q Queries) FindWork(ctx context.Context, key string) (store.Work, error) {
	return db.One[store.Work](ctx, q, "work_one", db.A{"key": key})
}

// ClaimWork gives work to a replica, unless it has ended or another replica was heard of within patience.
// store.ErrNone: it was not given.
func (q Queries) ClaimWork(ctx context.Context, key, holder string, patience time.Duration) (store.Work, error) {
	return db.One[store.Work](ctx, q, "work_claim", db.A{"key": key, "holder": holder, "patience": patience})
}

// BeginWork counts a try of work that a replica has, as its turn has come. store.ErrNone: the replica has it no more.
func (q Queries) BeginWork(ctx context.Context, key, holder string) (tries int, err error) {
	return db.Value[int](ctx, q, "work_begin", db.A{"key": key, "holder": holder})
}

// LeftWork lists the keys of work that no replica does, the oldest first.
func (q Queries) LeftWork(ctx context.Context, patience time.Duration) ([]string, error) {
	return db.Values[string](ctx, q, "work_left", db.A{"patience": patience})
}

// BeatWork says that a replica still does work, and how far it is; false: it has the work no more.
func (q Queries) BeatWork(ctx context.Context, key, holder string, progress float64) (bool, error) {
	n, err := q.Exec(ctx, "work_beat", db.A{"key": key, "holder": holder, "progress": progress})
	return n > 0, err
}

// ReleaseWork gives work back unfinished. If it was begun, that does not count as a try.
func (q Queries) ReleaseWork(ctx context.Context, key, holder string, begun bool) error {
	_, err := q.Exec(ctx, "work_release", db.A{"key": key, "holder": holder, "begun": begun})
	return err
}

// EndWork ends work with its result, or with why it failed (nil: it did not).
func (q Queries) EndWork(ctx context.Context, key, holder string, result, problem json.RawMessage) error {
	_, err := q.Exec(ctx, "work_end", db.A{"key": key, "holder": holder, "result": result, "problem": problem})
	return err
}

// DropWork forgets work that has ended, so that the same request begins it again.
func (q Queries) DropWork(ctx context.Context, key string) error {
	_, err := q.Exec(ctx, "work_drop", db.A{"key": key})
	return err
}

// ClearWork forgets what ended a day ago.
func (q Queries) ClearWork(ctx context.Context) error {
	_, err := q.Exec(ctx, "work_clear", db.A{})
	return err
}

// RunWork lists the work of a kind on a run that has not ended, the latest first; at most 100.
func (q Queries) RunWork(ctx context.Context, run int64, kind string) ([]store.Work, error) {
	return db.List[store.Work](ctx, q, "work_of_run", db.A{"run": run, "kind": kind})
}
