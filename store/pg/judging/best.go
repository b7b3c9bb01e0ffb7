package judging

import (
	"context"

	"kembrel/store/pg/db"
)

// SetAtBest keeps what curves were when the objective was best, and at which step that was; nil: that may change.
func (q Queries) SetAtBest(ctx context.Context, run int64, curves []int, values []*float64, step *int64) error {
	if _, err := q.Exec(ctx, "at_best_set", db.A{"run": run, "curves": curves, "values": values}); err != nil {
		return err
	}
	_, err := q.Exec(ctx, "best_step_set", db.A{"run": run, "step": step})
	return err
}

// ForgetBest has the figures at the objective's best looked up anew for all runs of a project.
func (q Queries) ForgetBest(ctx context.Context, project int64) error {
	_, err := q.Exec(ctx, "best_step_forget", db.A{"project": project})
	return err
}

// UnlookedRuns are some ended runs whose figures at the objective's best have not been looked up.
func (q Queries) UnlookedRuns(ctx context.Context) ([]int64, error) {
	return db.Values[int64](ctx, q, "runs_unlooked", db.A{})
}

// SetBest keeps the best reading of the objective with each run of a project.
func (q Queries) SetBest(ctx context.Context, project int64) error {
	_, err := q.Exec(ctx, "best_set", db.A{"project": project})
	return err
}
