package checkpoints

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// KeepRules are a project's keep rule and a run's own (run 0: nil); nil where there is none, {} where a run is to have
// none.
func (q Queries) KeepRules(ctx context.Context, project, run int64) (ofProject, ofRun json.RawMessage, err error) {
	r, err := db.One[struct{ Project, Run json.RawMessage }](ctx, q, "keep_rules", db.A{"project": project, "run": run})
	return r.Project, r.Run, err
}

// SetProjectKeepRule sets a project's keep rule; nil: none.
func (q Queries) SetProjectKeepRule(ctx context.Context, project int64, rule any) error {
	_, err := q.Exec(ctx, "keep_rule_of_project", db.A{"project": project, "rule": rule})
	return err
}

// SetRunKeepRule sets a run's own keep rule; nil: the project's holds.
func (q Queries) SetRunKeepRule(ctx context.Context, run int64, rule any) error {
	_, err := q.Exec(ctx, "keep_rule_of_run", db.A{"run": run, "rule": rule})
	return err
}

// ProjectsKeeping lists them.
func (q Queries) ProjectsKeeping(ctx context.Context) ([]store.Keeping, error) {
	return db.List[store.Keeping](ctx, q, "projects_keeping", db.A{})
}

// KeepCandidates lists the checkpoints of a project's runs, or of some (nil: all), by run and step.
func (q Queries) KeepCandidates(ctx context.Context, project int64, numbers []int64) ([]store.KeepCandidate, error) {
	return db.List[store.KeepCandidate](ctx, q, "keep_candidates", db.A{"project": project, "numbers": numbers})
}

// Beginnings lists all of them.
func (q Queries) Beginnings(ctx context.Context) ([]store.Beginning, error) {
	return db.List[store.Beginning](ctx, q, "beginnings", db.A{})
}

// CheckpointsGo begins the grace period of checkpoints, after which their bytes go. What a person said is not changed
// by a rule. It returns how many were not going before.
func (q Queries) CheckpointsGo(ctx context.Context, checkpoints []int64, stay time.Duration, why string,
	byRule bool) (int64, error) {
	return q.Exec(ctx, "checkpoints_go", db.A{"checkpoints": checkpoints, "grace": stay.Seconds(), "why": why,
		"by_rule": byRule})
}

// CheckpointsStay calls that off; byRule: only where a rule said so.
func (q Queries) CheckpointsStay(ctx context.Context, checkpoints []int64, byRule bool) (int64, error) {
	return q.Exec(ctx, "checkpoints_stay", db.A{"checkpoints": checkpoints, "by_rule": byRule})
}

// PinCheckpoint keeps a checkpoint from being dropped, or no longer; false where it has been dropped.
func (q Queries) PinCheckpoint(ctx context.Context, run, checkpoint int64, pinned bool) (bool, error) {
	n, err := q.Exec(ctx, "checkpoint_pin", db.A{"run": run, "checkpoint": checkpoint, "pinned": pinned})
	return n > 0, err
}

// DropDueCheckpoint drops the first checkpoint behind one whose grace period is over; its chunks are used so many
// fewer. ok is false where there is none. It belongs in a transaction.
func (q Queries) DropDueCheckpoint(ctx context.Context, after int64) (due store.DueCheckpoint, ok bool, err error) {
	due, err = db.One[store.DueCheckpoint](ctx, q, "checkpoint_due", db.A{"after": after})
	if errors.Is(err, store.ErrNone) {
		return due, false, nil
	}
	if err != nil {
		return due, false, err
	}
	if err := q.ReleaseChunks(ctx, due.Run, due.ID); err != nil {
		return due, false, err
	}
	_, err = q.Exec(ctx, "checkpoint_drop", db.A{"run": due.Run, "checkpoint": due.ID})
	return due, true, err
}

// Held adds up what they hold, by the id of each part. O(chunks of them, once for each checkpoint).
func (q Queries) Held(ctx context.Context, in store.HeldQuery) (map[int64]store.Held, error) {
	rows, err := db.List[store.Held](ctx, q, "sizes", db.A{"by": in.By, "project": in.Project, "run": in.Run,
		"checkpoints": in.Checkpoints})
	out := make(map[int64]store.Held, len(rows))
	for _, r := range rows {
		out[r.Part] = r
	}
	return out, err
}

// CheckpointSums adds up checkpoints by project, or by run of a project.
func (q Queries) CheckpointSums(ctx context.Context, by string, project int64) ([]store.CheckpointSum, error) {
	return db.List[store.CheckpointSum](ctx, q, "checkpoint_sums", db.A{"by": by, "project": project})
}
