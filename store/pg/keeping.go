package pg

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// KeepRules are a project's keep rule and a run's own (run 0: nil); nil where there is none, {} where a run is to have none.
func (q Queries) KeepRules(ctx context.Context, project, run int64) (ofProject, ofRun json.RawMessage, err error) {
	r, err := one[struct{ Project, Run json.RawMessage }](ctx, q, "keep_rules", A{"project": project, "run": run})
	return r.Project, r.Run, err
}

// SetProjectKeepRule sets a project's keep rule; nil: none.
func (q Queries) SetProjectKeepRule(ctx context.Context, project int64, rule any) error {
	_, err := q.exec(ctx, "keep_rule_of_project", A{"project": project, "rule": rule})
	return err
}

// SetRunKeepRule sets a run's own keep rule; nil: the project's holds.
func (q Queries) SetRunKeepRule(ctx context.Context, run int64, rule any) error {
	_, err := q.exec(ctx, "keep_rule_of_run", A{"run": run, "rule": rule})
	return err
}

// Keeping is a project whose keep rules are to be looked at.
type Keeping struct {
	ID             int64
	Key, Objective string
}

// ProjectsKeeping lists them.
func (q Queries) ProjectsKeeping(ctx context.Context) ([]Keeping, error) {
	return list[Keeping](ctx, q, "projects_keeping", A{})
}

// KeepCandidate is a checkpoint that a keep rule decides on.
type KeepCandidate struct {
	Run    int64
	Number int
	State  string
	Rule   json.RawMessage // the run's own, else the project's
	ID     int64
	Standing
	Saved   time.Time
	Size    int64
	Figures json.RawMessage
	Pinned  bool
	Goes    *time.Time
	ByRule  bool
}

// KeepCandidates lists the checkpoints of a project's runs, or of some (nil: all), by run and step.
func (q Queries) KeepCandidates(ctx context.Context, project int64, numbers []int64) ([]KeepCandidate, error) {
	return list[KeepCandidate](ctx, q, "keep_candidates", A{"project": project, "numbers": numbers})
}

// Beginning is a run that began, or a leg that went on, from the checkpoint From, which is at Step.
type Beginning struct {
	Address, From string
	Step          int64
}

// Beginnings lists all of them.
func (q Queries) Beginnings(ctx context.Context) ([]Beginning, error) {
	return list[Beginning](ctx, q, "beginnings", A{})
}

// CheckpointsGo begins the grace period of checkpoints, after which their bytes go. What a person said is not changed by a rule. It returns how many
// were not going before.
func (q Queries) CheckpointsGo(ctx context.Context, checkpoints []int64, stay time.Duration, why string, byRule bool) (int64, error) {
	return q.exec(ctx, "checkpoints_go", A{"checkpoints": checkpoints, "grace": stay.Seconds(), "why": why, "by_rule": byRule})
}

// CheckpointsStay calls that off; byRule: only where a rule said so.
func (q Queries) CheckpointsStay(ctx context.Context, checkpoints []int64, byRule bool) (int64, error) {
	return q.exec(ctx, "checkpoints_stay", A{"checkpoints": checkpoints, "by_rule": byRule})
}

// PinCheckpoint keeps a checkpoint from being dropped, or no longer; false where it has been dropped.
func (q Queries) PinCheckpoint(ctx context.Context, run, checkpoint int64, pinned bool) (bool, error) {
	n, err := q.exec(ctx, "checkpoint_pin", A{"run": run, "checkpoint": checkpoint, "pinned": pinned})
	return n > 0, err
}

// DueCheckpoint is a checkpoint whose grace period is over.
type DueCheckpoint struct {
	Run, ID, Step int64
	Why           string
}

// DropDueCheckpoint drops the first checkpoint behind one whose grace period is over; its chunks are used so many fewer. ok is false where there is none. It
// belongs in a transaction.
func (q Queries) DropDueCheckpoint(ctx context.Context, after int64) (due DueCheckpoint, ok bool, err error) {
	due, err = one[DueCheckpoint](ctx, q, "checkpoint_due", A{"after": after})
	if errors.Is(err, ErrNone) {
		return due, false, nil
	}
	if err != nil {
		return due, false, err
	}
	if err := q.ReleaseChunks(ctx, due.Run, due.ID); err != nil {
		return due, false, err
	}
	_, err = q.exec(ctx, "checkpoint_drop", A{"run": due.Run, "checkpoint": due.ID})
	return due, true, err
}

// Held is what some checkpoints hold: bytes of their different chunks, as stored, and of that what nothing else holds.
type Held struct {
	Part               int64
	Bytes, Stored, Own int64
}

// HeldQuery chooses checkpoints: of a project, a run (0: all), or some (nil: all); and By what they are taken together: project, run, checkpoint or all.
type HeldQuery struct {
	By           string
	Project, Run int64
	Checkpoints  []int64
}

// Held adds up what they hold, by the id of each part. O(chunks of them, once for each checkpoint).
func (q Queries) Held(ctx context.Context, in HeldQuery) (map[int64]Held, error) {
	rows, err := list[Held](ctx, q, "sizes", A{"by": in.By, "project": in.Project, "run": in.Run, "checkpoints": in.Checkpoints})
	out := make(map[int64]Held, len(rows))
	for _, r := range rows {
		out[r.Part] = r
	}
	return out, err
}

// CheckpointSum is how many checkpoints a part has and had, and the bytes of those it has, each whole.
type CheckpointSum struct {
	Part                                int64
	Address, Title                      string
	Checkpoints, Going, Dropped, Pinned int
	Whole                               int64
}

// CheckpointSums adds up checkpoints by project, or by run of a project.
func (q Queries) CheckpointSums(ctx context.Context, by string, project int64) ([]CheckpointSum, error) {
	return list[CheckpointSum](ctx, q, "checkpoint_sums", A{"by": by, "project": project})
}
