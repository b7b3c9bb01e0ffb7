package pg

import (
	"context"
	"encoding/json"
)

// Judgement is what is known for judging a run, and what came of it.
type Judgement struct {
	ID        int64
	Project   string
	Number    int
	Objective string
	State     string
	Rule      json.RawMessage // in force; nil or {}: none
	Own       bool            // the rule is the run's own
	Verdict   json.RawMessage
	Dispute   json.RawMessage
	Stopped   json.RawMessage
	BestStep  *int64  // of the best reading whose neighbours on other curves are known
	Epochs    float64 // the hyperparameter, NaN where there is none
}

// Judgements lists them for some runs.
func (q Queries) Judgements(ctx context.Context, runs []int64) ([]Judgement, error) {
	return list[Judgement](ctx, q, "judgement", A{"runs": runs})
}

// SetVerdict keeps a verdict; false where it is the one kept already.
func (q Queries) SetVerdict(ctx context.Context, run int64, verdict any) (bool, error) {
	n, err := q.exec(ctx, "verdict_set", A{"run": run, "verdict": verdict})
	return n > 0, err
}

// SetVerdicts keeps verdicts of runs that still train, as JSON.
func (q Queries) SetVerdicts(ctx context.Context, runs []int64, verdicts []json.RawMessage) error {
	_, err := q.exec(ctx, "verdicts_set", A{"runs": runs, "verdicts": verdicts})
	return err
}

// DisputeVerdict keeps a person's disagreement, or none (nil).
func (q Queries) DisputeVerdict(ctx context.Context, run int64, dispute any) error {
	_, err := q.exec(ctx, "dispute_set", A{"run": run, "dispute": dispute})
	return err
}

// SetStopped keeps that a rule said stop; false where one had said so before, or the run is over.
func (q Queries) SetStopped(ctx context.Context, run int64, stopped any) (bool, error) {
	n, err := q.exec(ctx, "stopped_set", A{"run": run, "stopped": stopped})
	return n > 0, err
}

// SetRunStopRule sets a run's own rule; nil: as the project.
func (q Queries) SetRunStopRule(ctx context.Context, run int64, rule any) error {
	_, err := q.exec(ctx, "stop_rule_of_run", A{"run": run, "rule": rule})
	return err
}

// SetProjectStopRule sets the rule of runs that have none of their own; nil: none.
func (q Queries) SetProjectStopRule(ctx context.Context, project int64, rule any) error {
	_, err := q.exec(ctx, "stop_rule_of_project", A{"project": project, "rule": rule})
	return err
}

// ProjectStopRule is a project's rule, nil where it has none.
func (q Queries) ProjectStopRule(ctx context.Context, project int64) (json.RawMessage, error) {
	return value[json.RawMessage](ctx, q, "project_stop_rule", A{"project": project})
}

// RunsWithRules are those of some runs that run under a rule which has not said stop yet.
func (q Queries) RunsWithRules(ctx context.Context, runs []int64) ([]int64, error) {
	return values[int64](ctx, q, "runs_with_rules", A{"runs": runs})
}

// CheckpointBefore is the place of the checkpoint nearest at or before a step; ErrNone where there is none.
func (q Queries) CheckpointBefore(ctx context.Context, run, step int64) (at int64, epoch float64, err error) {
	c, err := one[struct {
		Step  int64
		Epoch float64
	}](ctx, q, "checkpoint_before", A{"run": run, "step": step})
	return c.Step, c.Epoch, err
}
