package entering

import (
	"context"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	ListEnterings(ctx context.Context, model string) ([]store.Entering, error)
	ListEnteringRuns(ctx context.Context, rules []int64, runs []int, limit int) ([]store.EnteringRun, error)
	Looked(ctx context.Context, id, event int64, heard *time.Time, trouble string) error
	PersonByID(ctx context.Context, id int64) (store.Person, error)
	PersonRoles(ctx context.Context, person int64) ([]store.RoleOn, error)
	PutEnteringRun(ctx context.Context, r store.EnteringRun) error
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx
	AddEntering(ctx context.Context, e store.Entering) (int, error)
	ClearEntering(ctx context.Context, id int64) (bool, error)
	LockEnterings(ctx context.Context, model string) error
}

// Runs finds runs of a project.
type Runs interface {
	Project(ctx context.Context, key string) (store.Project, error)
	ListRuns(ctx context.Context, who act.Who, in *api.RunsInput) (*api.Page[api.Run], error)
}

// Checkpoints finds a checkpoint whose bytes are there.
type Checkpoints interface {
	FindHeld(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error)
}

// Models are those of the catalogue.
type Models interface {
	GetModel(ctx context.Context, who act.Who, in *api.ModelInput) (*api.Model, error)
	GetEdition(ctx context.Context, who act.Who, in *api.EditionInput) (*api.Edition, error)
	AddEdition(ctx context.Context, who act.Who, in *api.NewEdition) (*api.Edition, error)
	AskFor(ctx context.Context, who act.Who, in *api.Ask) (*api.Asked, error)
	EndAsking(ctx context.Context, who act.Who, in *api.EndAskingInput) (*api.None, error)
}

// Entering answers for the rules.
type Entering struct {
	*act.Act
	db          Storage
	runs        Runs
	checkpoints Checkpoints
	models      Models
}

// New makes the slice.
func New(a *act.Act, db Storage, r Runs, c Checkpoints, m Models) *Entering {
	return &Entering{Act: a, db: db, runs: r, checkpoints: c, models: m}
}
