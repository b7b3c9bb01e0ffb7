package pg

import (
	"context"
	"time"
)

// ArchiveRun puts a run out of the way, or brings it back.
func (q Queries) ArchiveRun(ctx context.Context, run int64, archived bool) error {
	_, err := q.exec(ctx, "run_archive", A{"run": run, "archived": archived})
	return err
}

// DoomRun has a run deleted in some days; nil: it stays.
func (q Queries) DoomRun(ctx context.Context, run int64, days *float64) error {
	_, err := q.exec(ctx, "run_doom", A{"run": run, "days": days})
	return err
}

// DueRun is a run whose grace period is over.
type DueRun struct {
	ID        int64
	Project   string
	Number    int
	ProjectID int64
}

// DueRuns lists some of them.
func (q Queries) DueRuns(ctx context.Context) ([]DueRun, error) {
	return list[DueRun](ctx, q, "runs_due", A{})
}

// EraseRun deletes a run whose grace period is over with all that belongs to it; false where it is not over. Chunks that no checkpoint holds any more
// are freed by cleaning. It belongs in a transaction.
func (q Queries) EraseRun(ctx context.Context, run int64) (bool, error) {
	for _, lock := range []string{"journal_lock", "seal_lock"} { // nothing is sealed meanwhile
		if _, err := q.exec(ctx, lock, map[string]A{"seal_lock": {"run": run}}[lock]); err != nil {
			return false, err
		}
	}
	if err := q.ReleaseChunks(ctx, run, 0); err != nil {
		return false, err
	}
	n, err := q.exec(ctx, "run_erase", A{"run": run})
	return n > 0, err
}

// SetAtBest keeps what curves were when the objective was best, and at which step that was; nil: that may change.
func (q Queries) SetAtBest(ctx context.Context, run int64, curves []int, values []*float64, step *int64) error {
	if _, err := q.exec(ctx, "at_best_set", A{"run": run, "curves": curves, "values": values}); err != nil {
		return err
	}
	_, err := q.exec(ctx, "best_step_set", A{"run": run, "step": step})
	return err
}

// ForgetBest has the figures at the objective's best looked up anew for all runs of a project.
func (q Queries) ForgetBest(ctx context.Context, project int64) error {
	_, err := q.exec(ctx, "best_step_forget", A{"project": project})
	return err
}

// UnlookedRuns are some ended runs whose figures at the objective's best have not been looked up.
func (q Queries) UnlookedRuns(ctx context.Context) ([]int64, error) {
	return values[int64](ctx, q, "runs_unlooked", A{})
}

// SetBaseline names the run that a project's others are held against; 0: none.
func (q Queries) SetBaseline(ctx context.Context, project int64, number int) error {
	_, err := q.exec(ctx, "project_baseline", A{"id": project, "number": number})
	return err
}

// View is a kept way to look at a project's runs.
type View struct {
	ID         int64
	Name, Look string
	Who        string
	Everybody  bool
	Changed    time.Time
}

// ListViews lists a person's views of a project and the project's own, by name.
func (q Queries) ListViews(ctx context.Context, project, person int64) ([]View, error) {
	return list[View](ctx, q, "view_list", A{"project": project, "person": person})
}

// SetView keeps a view under a name; person nil: everybody's.
func (q Queries) SetView(ctx context.Context, project int64, person *int64, name, look string) (int64, error) {
	return value[int64](ctx, q, "view_set", A{"project": project, "person": person, "name": name, "look": look})
}

// DropView drops a view; false where it is not the person's, nor everybody's.
func (q Queries) DropView(ctx context.Context, project, person, id int64) (bool, error) {
	n, err := q.exec(ctx, "view_drop", A{"project": project, "person": person, "id": id})
	return n > 0, err
}
