package files

import (
	"context"
	"encoding/json"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ListRunFiles lists files of a run, by path.
func (q Queries) ListRunFiles(ctx context.Context, f store.RunFileQuery) ([]store.RunFile, error) {
	return db.List[store.RunFile](ctx, q, "run_file_list", db.A{"run": f.Run, "evaluation": f.Evaluation,
		"path":  f.Path,
		"after": f.After, "since": f.Since, "limit": f.Limit})
}

// RunFileByKey finds the run, the path and the evaluation (0: none) of the file that was added with a key.
func (q Queries) RunFileByKey(ctx context.Context, key string) (run int64, path string, evaluation int, err error) {
	at, err := db.One[struct {
		Run        int64
		Path       string
		Evaluation int
	}](ctx, q, "run_file_by_key", db.A{"key": key})
	return at.Run, at.Path, at.Evaluation, err
}

// LockRunFiles keeps others from adding files to a run until the transaction ends, and counts those it has.
func (q Queries) LockRunFiles(ctx context.Context, run int64) (count int, err error) {
	if _, err := q.Exec(ctx, "run_file_lock", db.A{"run": run}); err != nil {
		return 0, err
	}
	return db.Value[int](ctx, q, "run_file_count", db.A{"run": run})
}

// PutRunFile adds a file, or puts it in the place of the one before of its path, whose chunks are let go. It belongs in
// a transaction, with the chunks of the new one counted as used.
func (q Queries) PutRunFile(ctx context.Context, f store.NewRunFile) error {
	if err := q.releaseRunFile(ctx, f.Run, f.EvaluationID, f.Path); err != nil {
		return err
	}
	_, err := q.Exec(ctx, "run_file_put", db.A{"run": f.Run, "evaluation": f.EvaluationID, "key": f.Key, "path": f.Path,
		"kind": f.Kind, "size": f.Size, "digest": f.Digest, "chunks": f.Chunks, "leg": f.Leg, "person": f.Person})
	return err
}

// DropRunFile lets the bytes of a file go; its path, size and digest stay. False: they had gone.
func (q Queries) DropRunFile(ctx context.Context, run, evaluation int64, path string) (bool, error) {
	if err := q.releaseRunFile(ctx, run, evaluation, path); err != nil {
		return false, err
	}
	n, err := q.Exec(ctx, "run_file_drop", db.A{"run": run, "evaluation": evaluation, "path": path})
	return n > 0, err
}

func (q Queries) releaseRunFile(ctx context.Context, run, evaluation int64, path string) error {
	_, err := q.Exec(ctx, "run_file_release", db.A{"run": run, "evaluation": evaluation, "path": path})
	return err
}

// DueRunFiles lists some.
func (q Queries) DueRunFiles(ctx context.Context) ([]store.DueRunFile, error) {
	return db.List[store.DueRunFile](ctx, q, "run_file_due", db.A{})
}

// FileRule is what a project says of its runs' files; nil: they stay.
func (q Queries) FileRule(ctx context.Context, project int64) (json.RawMessage, error) {
	return db.Value[json.RawMessage](ctx, q, "file_rule", db.A{"project": project})
}

// SetFileRule sets it; nil: they stay.
func (q Queries) SetFileRule(ctx context.Context, project int64, rule any) error {
	_, err := q.Exec(ctx, "file_rule_set", db.A{"project": project, "rule": rule})
	return err
}
