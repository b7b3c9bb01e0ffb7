package judging

import (
	"context"
	"encoding/json"

	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	store.Readings
	CheckpointBefore(ctx context.Context, run int64, step int64) (at int64, epoch float64, err error)
	Judgements(ctx context.Context, runs []int64) ([]store.Judgement, error)
	ListLegs(ctx context.Context, run int64) ([]store.Leg, error)
	ProjectStopRule(ctx context.Context, project int64) (json.RawMessage, error)
	RunOrigin(ctx context.Context, run int64) (json.RawMessage, error)
	RunsWithRules(ctx context.Context, runs []int64) ([]int64, error)
	SetAtBest(ctx context.Context, run int64, curves []int, values []*float64, step *int64) error
	SetSketch(ctx context.Context, run int64, id int, sketch curve.Sketch) error
	SetVerdict(ctx context.Context, run int64, verdict any) (bool, error)
	SetVerdicts(ctx context.Context, runs []int64, verdicts []json.RawMessage) error
	Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error)
	UnlookedRuns(ctx context.Context) ([]int64, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx // events
	DisputeVerdict(ctx context.Context, run int64, dispute any) error
	SetProjectStopRule(ctx context.Context, project int64, rule any) error
	SetRunStopRule(ctx context.Context, run int64, rule any) error
	SetStopped(ctx context.Context, run int64, rule json.RawMessage, stopped any) (bool, error)
	StopRun(ctx context.Context, run int64, stopped any) (bool, error)
}
