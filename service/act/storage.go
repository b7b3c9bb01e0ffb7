package act

import (
	"context"

	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	EventsAfter(ctx context.Context, mark string) ([]store.Told, error)
	EventsNow(ctx context.Context) (string, error)
	Listen(ctx context.Context, heard func(text string)) error
	RunNames(ctx context.Context, runs []int64) ([]store.RunName, error)
	Tell(ctx context.Context, text string) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	AddEvent(ctx context.Context, e store.Event) error
	RunProject(ctx context.Context, run int64) (int64, error)
}
