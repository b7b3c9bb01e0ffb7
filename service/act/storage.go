package act

import (
	"context"

	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	Audit(ctx context.Context, in store.AuditQuery) ([]store.Told, error)
	BesideChain(ctx context.Context) (int64, error)
	Chain(ctx context.Context) (added int, err error)
	Link(before []byte, event string) []byte
	ReadChain(ctx context.Context, after int64) ([]store.Chained, error)
	ProjectPlace(ctx context.Context, key string) (store.Place, error)
	RunMaker(ctx context.Context, project string, number int) (int64, error)
	EventsAfter(ctx context.Context, mark string) ([]store.Told, error)
	EventsNow(ctx context.Context) (string, error)
	Listen(ctx context.Context, heard func(text string)) error
	RunNames(ctx context.Context, runs []int64) ([]store.RunName, error)
	Tell(ctx context.Context, text string) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	AddEvent(ctx context.Context, e store.Event) error
	RunOf(ctx context.Context, run int64) (project int64, address string, err error)
}
