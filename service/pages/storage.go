package pages

import (
	"context"

	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	CheckpointStats(ctx context.Context, run int64) (count int64, size int64, err error)
	ListLegs(ctx context.Context, run int64) ([]store.Leg, error)
	ListNotes(ctx context.Context, run int64) ([]store.Note, error)
	RunData(ctx context.Context, runs []int64) ([]store.RunData, error)
	SnapshotByID(ctx context.Context, id int64) (store.Snapshot, error)
	TestLooks(ctx context.Context, seen store.Seen, snapshot int64) ([]store.TestLook, error)
	Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error)
}
