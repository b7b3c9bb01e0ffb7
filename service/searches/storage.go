package searches

import (
	"context"

	"kembrel/service/act"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	ListSearches(ctx context.Context, project int64, below int64, shown string, limit int) ([]store.Search, error)
	SearchByKey(ctx context.Context, key string) (store.Search, error)
	SearchByNumber(ctx context.Context, project int64, number int) (store.Search, error)
	SearchSums(ctx context.Context, project int64, searches []int, lower bool) ([]store.SearchSum, error)
	Trials(ctx context.Context, project int64, searches []int) ([]store.Trial, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx // events
	SetBudget(ctx context.Context, project int64, number int, budget int) error
	AddSearch(ctx context.Context, n store.NewSearch) error
	ArchiveSearch(ctx context.Context, project int64, number int, archived bool) error
	DeleteSearch(ctx context.Context, project int64, number int) error
}
