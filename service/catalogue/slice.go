package catalogue

import (
	"context"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

// Storage is what this slice needs of the store.
type Storage interface {
	Approvers(ctx context.Context, project string) ([]string, error)
	CheckFiles(ctx context.Context, checks []int64) ([]store.CheckFile, error)
	Edition(ctx context.Context, model int64, number int, id int64) (store.Edition, error)
	EditionFiles(ctx context.Context, edition int64) ([]store.File, error)
	EditionOf(ctx context.Context, model int64, origin string) (int, error)
	EvaluationSheets(ctx context.Context, run int64, evaluations []int64) ([]store.EvaluatedSheet, error)
	ListAskings(ctx context.Context, models []int64, id int64, waiting bool, limit int) ([]store.Asking, error)
	ListConsumers(ctx context.Context, models ...int64) ([]store.Consumer, error)
	ListEditionChecks(ctx context.Context, editions []int64) ([]store.EditionCheck, error)
	ListOutcomes(ctx context.Context, editions []int64) ([]store.EditionOutcome, error)
	ListEditions(ctx context.Context, model int64, below, limit int) ([]store.Edition, error)
	ListEvaluations(ctx context.Context, e store.EvaluationQuery) ([]store.Evaluation, error)
	ListHoldings(ctx context.Context, model int64, standing string, limit int) ([]store.Holding, error)
	ListModels(ctx context.Context, seen store.Seen, name, after string, limit int) ([]store.Model, error)
	ListSignOffs(ctx context.Context, askings []int64) ([]store.SignOff, error)
	ListStandings(ctx context.Context, models ...int64) ([]store.ModelStanding, error)
	ModelProject(ctx context.Context, name string) (string, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx
	AddAsking(ctx context.Context, a store.Asking) (int64, error)
	AddEdition(ctx context.Context, e store.Edition, person int64, files []store.File) (int, error)
	AddEditionCheck(ctx context.Context, c store.EditionCheck, person int64, files []store.File) error
	AddModel(ctx context.Context, m store.Model, person int64) (id, project int64, err error)
	ChangeModel(ctx context.Context, id int64, to store.ModelTexts) error
	DropConsumer(ctx context.Context, model int64, place string) (bool, error)
	DropStanding(ctx context.Context, model int64, name string) (bool, error)
	Edition(ctx context.Context, model int64, number int, id int64) (store.Edition, error)
	EditionOf(ctx context.Context, model int64, origin string) (int, error)
	EndAsking(ctx context.Context, id int64, outcome string, ender int64, because string) (bool, error)
	Hold(ctx context.Context, n store.NewHolding) error
	ListAskings(ctx context.Context, models []int64, id int64, waiting bool, limit int) ([]store.Asking, error)
	ListOutcomes(ctx context.Context, editions []int64) ([]store.EditionOutcome, error)
	ListHoldings(ctx context.Context, model int64, standing string, limit int) ([]store.Holding, error)
	ListSignOffs(ctx context.Context, askings []int64) ([]store.SignOff, error)
	ListStandings(ctx context.Context, models ...int64) ([]store.ModelStanding, error)
	LockModel(ctx context.Context, id int64) error
	ReportOnce(ctx context.Context, subscription, event int64, purpose string) (bool, error)
	PutConsumer(ctx context.Context, model, edition, person int64, place string) error
	PutSignOff(ctx context.Context, s store.SignOff) error
	PutStanding(ctx context.Context, s store.ModelStanding, place int) error
	UseChunks(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]int64, error)
	WithdrawSignOff(ctx context.Context, asking, person int64) (bool, error)
}

// Checkpoints finds a checkpoint whose bytes are there, with its files and its id.
type Checkpoints interface {
	FindHeld(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error)
}

// Runs shows a run, and finds its id.
type Runs interface {
	GetRun(ctx context.Context, who act.Who, in *api.RunInput) (*api.RunDetail, error)
	RunID(ctx context.Context, in api.RunInput) (int64, error)
}

// Sheets says where two models disagree.
type Sheets interface {
	GetSheet(ctx context.Context, who act.Who, in *api.SheetInput) (*api.SheetDetail, error)
	GetDisagreement(ctx context.Context, who act.Who, in *api.DisagreementInput) (*api.SheetDisagreement, error)
}

// Catalogue answers for the catalogue.
type Catalogue struct {
	*act.Act
	db          Storage
	chunks      *pack.Packs
	checkpoints Checkpoints
	runs        Runs
	sheets      Sheets
}

// New makes the slice.
func New(a *act.Act, db Storage, chunks *pack.Packs, c Checkpoints, r Runs, s Sheets) *Catalogue {
	return &Catalogue{Act: a, db: db, chunks: chunks, checkpoints: c, runs: r, sheets: s}
}
