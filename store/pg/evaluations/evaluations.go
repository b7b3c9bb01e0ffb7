package evaluations

import (
	"context"
	"encoding/json"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ListEvaluations lists evaluations of a run's checkpoints, the latest first.
func (q Queries) ListEvaluations(ctx context.Context, e store.EvaluationQuery) ([]store.Evaluation, error) {
	return db.List[store.Evaluation](ctx, q, "evaluation_list", db.A{"run": e.Run, "checkpoint": e.Checkpoint,
		"on": e.On, "below": e.Below, "number": e.Number, "verified": e.Verified, "limit": e.Limit})
}

// EvaluationByKey finds the run and the number of the evaluation that was told with a key.
func (q Queries) EvaluationByKey(ctx context.Context, key string) (run int64, number int, err error) {
	at, err := db.One[struct {
		Run    int64
		Number int
	}](ctx, q, "evaluation_by_key", db.A{"key": key})
	return at.Run, at.Number, err
}

// AddEvaluation adds one and gives it the next number of its run. It belongs in a transaction.
func (q Queries) AddEvaluation(ctx context.Context, e store.Evaluation, person int64) (number int, err error) {
	if _, err := q.Exec(ctx, "evaluation_lock", db.A{"run": e.Run}); err != nil {
		return 0, err
	}
	return db.Value[int](ctx, q, "evaluation_add", db.A{"run": e.Run, "key": e.Key, "checkpoint": e.Checkpoint,
		"data": e.Data, "split": e.Split, "snapshot": e.Snapshot, "figures": e.Figures, "measures": e.Measures,
		"verified": e.Verified, "command": e.Command, "notes": e.Notes, "host": e.Host, "person": person,
		"started": e.Started, "ended": e.Ended})
}

// NoteEvaluation adds the notes, a JSON list of texts, that it does not have yet.
func (q Queries) NoteEvaluation(ctx context.Context, key string, notes json.RawMessage) error {
	_, err := q.Exec(ctx, "evaluation_note", db.A{"key": key, "notes": notes})
	return err
}

// MeasureEvaluation sets measures that a sheet gives, a JSON object.
func (q Queries) MeasureEvaluation(ctx context.Context, run, id int64, measures json.RawMessage) error {
	_, err := q.Exec(ctx, "evaluation_measure", db.A{"run": run, "id": id, "measures": measures})
	return err
}

// LatestEvaluations lists what the latest evaluation of each run on each data measured.
func (q Queries) LatestEvaluations(ctx context.Context, runs []int64) ([]store.LatestEvaluation, error) {
	return db.List[store.LatestEvaluation](ctx, q, "evaluation_latest", db.A{"runs": runs})
}

// EvaluationSheets lists the prediction sheets of evaluations of a run.
func (q Queries) EvaluationSheets(ctx context.Context, run int64, ids []int64) ([]store.EvaluatedSheet, error) {
	return db.List[store.EvaluatedSheet](ctx, q, "evaluation_sheets", db.A{"run": run, "evaluations": ids})
}
