package judging

import (
	"context"
	"encoding/json"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// Judgements lists them for some runs.
func (q Queries) Judgements(ctx context.Context, runs []int64) ([]store.Judgement, error) {
	return db.List[store.Judgement](ctx, q, "judgement", db.A{"runs": runs})
}

// SetVerdict keeps a verdict; false where it is the one kept already.
func (q Queries) SetVerdict(ctx context.Context, run int64, verdict any) (bool, error) {
	n, err := q.Exec(ctx, "verdict_set", db.A{"run": run, "verdict": verdict})
	return n > 0, err
}

// SetVerdicts keeps verdicts of runs that still train, as JSON.
func (q Queries) SetVerdicts(ctx context.Context, runs []int64, verdicts []json.RawMessage) error {
	_, err := q.Exec(ctx, "verdicts_set", db.A{"runs": runs, "verdicts": verdicts})
	return err
}

// DisputeVerdict keeps a person's disagreement, or none (nil).
func (q Queries) DisputeVerdict(ctx context.Context, run int64, dispute any) error {
	_, err := q.Exec(ctx, "dispute_set", db.A{"run": run, "dispute": dispute})
	return err
}

// RunOrigin is what a run branched from, or repeats; nil: nothing.
func (q Queries) RunOrigin(ctx context.Context, run int64) (json.RawMessage, error) {
	return db.Value[json.RawMessage](ctx, q, "run_origin", db.A{"run": run})
}

// SetStopped keeps that a rule said stop; false where one had said so before, the run is over, or another rule is in
// force by now.
func (q Queries) SetStopped(ctx context.Context, run int64, rule json.RawMessage, stopped any) (bool, error) {
	n, err := q.Exec(ctx, "stopped_set", db.A{"run": run, "rule": rule, "stopped": stopped})
	return n > 0, err
}

// StopRun keeps that a person asked a run to stop; false where it is over.
func (q Queries) StopRun(ctx context.Context, run int64, stopped any) (bool, error) {
	n, err := q.Exec(ctx, "stopped_by", db.A{"run": run, "stopped": stopped})
	return n > 0, err
}

// SetRunStopRule sets a run's own rule; nil: as the project.
func (q Queries) SetRunStopRule(ctx context.Context, run int64, rule any) error {
	_, err := q.Exec(ctx, "stop_rule_of_run", db.A{"run": run, "rule": rule})
	return err
}

// SetProjectStopRule sets the rule of runs that have none of their own; nil: none.
func (q Queries) SetProjectStopRule(ctx context.Context, project int64, rule any) error {
	_, err := q.Exec(ctx, "stop_rule_of_project", db.A{"project": project, "rule": rule})
	return err
}

// ProjectStopRule is a project's rule, nil where it has none.
func (q Queries) ProjectStopRule(ctx context.Context, project int64) (json.RawMessage, error) {
	return db.Value[json.RawMessage](ctx, q, "project_stop_rule", db.A{"project": project})
}

// RunsWithRules are those of some runs that run under a rule which has not said stop yet.
func (q Queries) RunsWithRules(ctx context.Context, runs []int64) ([]int64, error) {
	return db.Values[int64](ctx, q, "runs_with_rules", db.A{"runs": runs})
}

// CheckpointBefore is the place of the checkpoint nearest at or before a step; ErrNone where there is none.
func (q Queries) CheckpointBefore(ctx context.Context, run, step int64) (at int64, epoch float64, err error) {
	c, err := db.One[struct {
		Step  int64
		Epoch float64
	}](ctx, q, "checkpoint_before", db.A{"run": run, "step": step})
	return c.Step, c.Epoch, err
}
