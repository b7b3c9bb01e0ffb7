package runs

import (
	"context"
	"encoding/json"
	"time"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// StartOf reads it.
func (q Queries) StartOf(ctx context.Context, run int64) (store.Start, error) {
	return db.One[store.Start](ctx, q, "run_start", db.A{"run": run})
}

// RunByKey finds a run by the key it was made with.
func (q Queries) RunByKey(ctx context.Context, key string) (id int64, number int, project int64, err error) {
	type found struct {
		ID      int64
		Number  int
		Project int64
	}
	f, err := db.One[found](ctx, q, "run_by_key", db.A{"key": key})
	return f.ID, f.Number, f.Project, err
}

// AddRun makes a run with the project's next number. It belongs in a transaction.
func (q Queries) AddRun(ctx context.Context, r store.NewRun) (id int64, number int, err error) {
	if number, err = db.Value[int](ctx, q, "run_number", db.A{"project": r.Project}); err != nil {
		return 0, 0, err
	}
	id, err = db.Value[int64](ctx, q, "run_add", db.A{"project": r.Project, "number": number,
		"key": r.Key, "title": r.Title,
		"creator": r.Creator, "host": r.Host, "recipe": r.Recipe, "origin": r.Origin, "search": r.Search,
		"trial": r.Trial, "started": r.Started})
	return id, number, err
}

// RunID finds a run by its address.
func (q Queries) RunID(ctx context.Context, project string, number int) (int64, error) {
	return db.Value[int64](ctx, q, "run_id", db.A{"project": project, "number": number})
}

// RunByNumber finds one run of a project; ErrNone where there is none.
func (q Queries) RunByNumber(ctx context.Context, project int64, number int) (store.Run, error) {
	rows, err := q.RunsByNumber(ctx, project, []int64{int64(number)})
	if err == nil && len(rows) == 0 {
		err = store.ErrNone
	}
	if err != nil {
		return store.Run{}, err
	}
	return rows[0], nil
}

// RunsByNumber finds some runs of a project, in no order.
func (q Queries) RunsByNumber(ctx context.Context, project int64, numbers []int64) ([]store.Run, error) {
	return db.List[store.Run](ctx, q, "run_list", db.A{"project": project, "numbers": numbers})
}

// RunTitles are some runs of a project with what they are called, and nothing else, in no order.
func (q Queries) RunTitles(ctx context.Context, project int64, numbers []int64) ([]store.Run, error) {
	titles, err := db.List[struct {
		ID     int64
		Number int
		Title  string
	}](ctx, q, "run_titles", db.A{"project": project, "numbers": numbers})
	out := make([]store.Run, len(titles))
	for i, t := range titles {
		out[i] = store.Run{ID: t.ID, Number: t.Number, Title: t.Title}
	}
	return out, err
}

// ChangeRun changes what is not nil.
func (q Queries) ChangeRun(ctx context.Context, id int64, title *string, tags []string, note *string) error {
	_, err := q.Exec(ctx, "run_change", db.A{"id": id, "title": title, "tags": tags, "note": note})
	return err
}

// SetRunState sets a run's state and end; false where it was so already.
func (q Queries) SetRunState(ctx context.Context, id int64, state string, ended *time.Time) (bool, error) {
	n, err := q.Exec(ctx, "run_state", db.A{"id": id, "state": state, "ended": ended})
	return n > 0, err
}

// SetHyper keeps hyperparameters.
func (q Queries) SetHyper(ctx context.Context, run int64, values map[string]json.RawMessage) error {
	for name, v := range values {
		if _, err := q.Exec(ctx, "hyper_set", db.A{"run": run, "name": name, "value": v}); err != nil {
			return err
		}
	}
	return nil
}

// Hyper reads a run's hyperparameters.
func (q Queries) Hyper(ctx context.Context, run int64) (map[string]json.RawMessage, error) {
	rows, err := db.List[struct {
		Name  string
		Value json.RawMessage
	}](ctx, q, "hyper_list", db.A{"run": run})
	out := make(map[string]json.RawMessage, len(rows))
	for _, r := range rows {
		out[r.Name] = r.Value
	}
	return out, err
}

// Recipe reads a run's recipe.
func (q Queries) Recipe(ctx context.Context, run int64) (json.RawMessage, error) {
	return db.Value[json.RawMessage](ctx, q, "run_recipe", db.A{"run": run})
}

// Recipes reads the recipes of some runs; they may be large.
func (q Queries) Recipes(ctx context.Context, runs []int64) (map[int64]json.RawMessage, error) {
	rows, err := db.List[struct {
		ID     int64
		Recipe json.RawMessage
	}](ctx, q, "run_recipes", db.A{"runs": runs})
	out := make(map[int64]json.RawMessage, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Recipe
	}
	return out, err
}

// ProgramSays keeps what a program told of itself: what goes into the recipe, the parts that resuming needs (nil: as
// before), its starting weights (nil: as before).
func (q Queries) ProgramSays(ctx context.Context, run int64, recipe any, needs []string, start any) error {
	_, err := q.Exec(ctx, "run_says", db.A{"run": run, "recipe": recipe, "needs": needs, "start": start})
	return err
}

// SetRepeats keeps how a rerun compares with what it repeats.
func (q Queries) SetRepeats(ctx context.Context, run int64, repeats any) error {
	_, err := q.Exec(ctx, "repeats_set", db.A{"run": run, "repeats": repeats})
	return err
}

// AddNote keeps a note.
func (q Queries) AddNote(ctx context.Context, run int64, n store.Note) error {
	_, err := q.Exec(ctx, "note_add", db.A{"run": run, "leg": n.Leg, "at": n.At, "text": n.Text})
	return err
}

// ListNotes lists the first thousand notes of a run.
func (q Queries) ListNotes(ctx context.Context, run int64) ([]store.Note, error) {
	return db.List[store.Note](ctx, q, "note_list", db.A{"run": run})
}
