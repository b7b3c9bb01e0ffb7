package sheets

import (
	"context"
	"encoding/json"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ListSheets lists prediction sheets of a run, without all that they come to.
func (q Queries) ListSheets(ctx context.Context, s store.SheetQuery) ([]store.Sheet, error) {
	return q.list(ctx, s, false)
}

// WholeSheets lists them with it.
func (q Queries) WholeSheets(ctx context.Context, s store.SheetQuery) ([]store.Sheet, error) {
	return q.list(ctx, s, true)
}

func (q Queries) list(ctx context.Context, s store.SheetQuery, whole bool) ([]store.Sheet, error) {
	like := store.Sheet{}
	if s.Like != nil {
		like = *s.Like
	}
	return db.List[store.Sheet](ctx, q, "sheet_list", db.A{"like": s.Like != nil, "data": like.Data,
		"own": like.Evaluation == nil, "at": s.At, "run": s.Run, "split": s.Split, "below": s.Below,
		"number": s.Number, "last": s.Last, "limit": s.Limit, "whole": whole})
}

// SheetByKey finds the run and the number of the sheet that was handed over with a key.
func (q Queries) SheetByKey(ctx context.Context, key string) (run int64, number int, err error) {
	at, err := db.One[struct {
		Run    int64
		Number int
	}](ctx, q, "sheet_by_key", db.A{"key": key})
	return at.Run, at.Number, err
}

// SheetByID finds one.
func (q Queries) SheetByID(ctx context.Context, run, id int64) (store.Sheet, error) {
	return db.One[store.Sheet](ctx, q, "sheet_one", db.A{"run": run, "id": id})
}

// AddSheet adds a sheet and gives it the next number of its run. It belongs in a transaction, with the chunks of its
// files counted as used.
func (q Queries) AddSheet(ctx context.Context, n store.NewSheet) (number int, err error) {
	if _, err := q.Exec(ctx, "sheet_lock", db.A{"run": n.Run}); err != nil {
		return 0, err
	}
	at, err := db.One[struct {
		ID     int64
		Number int
	}](ctx, q, "sheet_add", db.A{"run": n.Run, "key": n.Key, "leg": n.Leg, "step": n.Step, "epoch": n.Epoch,
		"split": n.Split, "task": n.Task, "classes": n.Classes, "probabilities": n.Probabilities,
		"examples": n.Examples,
		"labelled": n.Labelled, "figures": n.Figures, "assessed": n.Assessed, "alarms": n.Alarms, "data": n.Data,
		"evaluation": n.EvaluationID, "source": n.Source, "size": n.Size, "person": n.Person})
	if err != nil {
		return 0, err
	}
	for _, f := range n.Files {
		if _, err := q.Exec(ctx, "sheet_file_add", db.A{"run": n.Run, "sheet": at.ID, "name": f.Name, "size": f.Size,
			"chunks": f.Chunks}); err != nil {
			return 0, err
		}
	}
	return at.Number, nil
}

// SheetFiles lists the files of a sheet.
func (q Queries) SheetFiles(ctx context.Context, run, id int64) ([]store.SheetFile, error) {
	return db.List[store.SheetFile](ctx, q, "sheet_files", db.A{"run": run, "sheet": id})
}

// UncomparedSheets lists some that were not held against the curves of their run yet.
func (q Queries) UncomparedSheets(ctx context.Context) ([]store.Uncompared, error) {
	return db.List[store.Uncompared](ctx, q, "sheet_uncompared", db.A{})
}

// ComparedSheet notes alarms of a sheet that had others, which curves it was held against, and whether nothing is left
// to hold against it; false: another did.
func (q Queries) ComparedSheet(ctx context.Context, run, id int64, had, alarms json.RawMessage,
	held []string, compared bool) (bool, error) {
	n, err := q.Exec(ctx, "sheet_compared", db.A{"run": run, "id": id, "had": had, "alarms": alarms, "held": held,
		"compared": compared})
	return n > 0, err
}

// SetAlarms brings the alarms of a run up to date with its sheets.
func (q Queries) SetAlarms(ctx context.Context, run int64) error {
	_, err := q.Exec(ctx, "run_alarms", db.A{"run": run})
	return err
}

// PutMark keeps what a person says of an example's label, in the place of what they said before.
func (q Queries) PutMark(ctx context.Context, project int64, scope string, m store.Mark) error {
	_, err := q.Exec(ctx, "mark_put", db.A{"project": project, "scope": scope, "key": m.Key, "person": m.Person,
		"mark": m.Mark, "label": m.Label, "was": m.Was})
	return err
}

// DropMark takes it back.
func (q Queries) DropMark(ctx context.Context, project int64, scope, key string, person int64) error {
	_, err := q.Exec(ctx, "mark_drop", db.A{"project": project, "scope": scope, "key": key, "person": person})
	return err
}

// ListMarks lists marks of some examples, or of all (nil), the latest last.
func (q Queries) ListMarks(ctx context.Context, project int64, scope string, keys []string) ([]store.Mark, error) {
	return db.List[store.Mark](ctx, q, "mark_list", db.A{"project": project, "scope": scope, "keys": keys})
}

// NamesFiles lists small JSON files in which a run may have saved the names of its classes, the nearest to a step
// first.
func (q Queries) NamesFiles(ctx context.Context, run, step, most int64) ([]store.NamesFile, error) {
	return db.List[store.NamesFile](ctx, q, "names_files", db.A{"run": run, "step": step, "most": most})
}
