package projects

import (
	"context"

	"kembrel/core/verdict"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// SetBaseline names the run that a project's others are held against; 0: none.
func (q Queries) SetBaseline(ctx context.Context, project int64, number int) error {
	_, err := q.Exec(ctx, "project_baseline", db.A{"id": project, "number": number})
	return err
}

// AddProject makes a project; false where the key is taken.
func (q Queries) AddProject(ctx context.Context, key, title string, objective verdict.Objective,
	creator int64) (int64, bool, error) {
	id, err := db.Value[int64](ctx, q, "project_add", db.A{"key": key, "title": title, "objective": objective,
		"creator": creator})
	if db.None(err) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// ProjectByKey finds a project.
func (q Queries) ProjectByKey(ctx context.Context, key string) (store.Project, error) {
	return db.One[store.Project](ctx, q, "project_by_key", db.A{"key": key})
}

// ListProjects lists projects that somebody sees by key, with counts: those that are not archived, those that are
// (shown archived), or all; a key given lists only that one.
func (q Queries) ListProjects(ctx context.Context, seen store.Seen, key, shown, after string,
	limit int) ([]store.CountedProject, error) {
	return db.List[store.CountedProject](ctx, q, "project_list",
		db.A{"all": seen.All, "open": seen.Open, "keys": seen.Keys, "only": seen.Only, "key": key,
			"shown": shown, "after": after, "limit": limit})
}

// BestRun finds it; ErrNone where no run has a finite reading. O(log runs).
func (q Queries) BestRun(ctx context.Context, project int64, lower bool) (store.BestRun, error) {
	if lower {
		return db.One[store.BestRun](ctx, q, "project_best_lower", db.A{"project": project})
	}
	return db.One[store.BestRun](ctx, q, "project_best_higher", db.A{"project": project})
}

// Improvements finds the newest runs that were better than all before them, newest first. O(runs / 2000) descents of an
// index, and the first 2000 runs.
func (q Queries) Improvements(ctx context.Context, project int64, lower bool, limit int) ([]store.Improvement, error) {
	return db.List[store.Improvement](ctx, q, "improvements", db.A{"project": project, "lower": lower, "limit": limit})
}

// RunsSince counts the runs with readings of the objective after one, to a limit.
func (q Queries) RunsSince(ctx context.Context, project int64, number, limit int) (int64, error) {
	return db.Value[int64](ctx, q, "improvement_since", db.A{"project": project, "number": number, "limit": limit})
}

// GatherTally brings the rows together that count a project's runs.
func (q Queries) GatherTally(ctx context.Context) error {
	_, err := q.Exec(ctx, "tally_gather", nil)
	return err
}

// ChangeProject changes what is not nil.
func (q Queries) ChangeProject(ctx context.Context, id int64, c store.ProjectChange) error {
	_, err := q.Exec(ctx, "project_change", db.A{"id": id, "title": c.Title, "objective": c.Objective, "open": c.Open,
		"archived": c.Archived})
	return err
}

// DeleteProject deletes one that has no run and no model, and reports whether it did.
func (q Queries) DeleteProject(ctx context.Context, id int64) (bool, error) {
	n, err := q.Exec(ctx, "project_delete", db.A{"id": id})
	return n > 0, err
}
