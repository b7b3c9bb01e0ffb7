package projects

import (
	"context"

	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	BestRun(ctx context.Context, project int64, lower bool) (store.BestRun, error)
	DropView(ctx context.Context, project int64, person int64, id int64, everybodys bool) (bool, error)
	Improvements(ctx context.Context, project int64, lower bool, limit int) ([]store.Improvement, error)
	RunsSince(ctx context.Context, project int64, number, limit int) (int64, error)
	ListProjects(ctx context.Context, seen store.Seen, key, shown, after string,
		limit int) ([]store.CountedProject, error)
	ListViews(ctx context.Context, project int64, person int64) ([]store.View, error)
	SetView(ctx context.Context, project int64, person *int64, name string, look string) (int64, error)
	Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx // events
	AddProject(ctx context.Context, key string, title string, objective verdict.Objective,
		creator int64) (int64, bool, error)
	ChangeProject(ctx context.Context, id int64, c store.ProjectChange) error
	DeleteProject(ctx context.Context, id int64) (bool, error)
	SetRole(ctx context.Context, project, person, team *int64, role string) error
	ForgetBest(ctx context.Context, project int64) error
	SetBaseline(ctx context.Context, project int64, number int) error
	SetBest(ctx context.Context, project int64) error
}
