package searches

import (
	"context"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// AddSearch makes a search, unless the key made one before. It belongs in a transaction.
func (q Queries) AddSearch(ctx context.Context, n store.NewSearch) error {
	_, err := q.Exec(ctx, "search_add", db.A{"project": n.Project, "key": n.Key, "title": n.Title,
		"strategy": n.Strategy, "space": n.Space, "seed": n.Seed,
		"budget": n.Budget, "command": n.Command, "person": n.Person})
	return err
}

// SearchByNumber finds a search of a project.
func (q Queries) SearchByNumber(ctx context.Context, project int64, number int) (store.Search, error) {
	return db.One[store.Search](ctx, q, "search_one", db.A{"project": project, "number": number, "key": nil})
}

// SearchByKey finds a search by the key it was made with.
func (q Queries) SearchByKey(ctx context.Context, key string) (store.Search, error) {
	return db.One[store.Search](ctx, q, "search_one", db.A{"project": 0, "number": 0, "key": key})
}

// ListSearches lists a project's searches below a number (0: all), the newest first; shown is active, archived or all.
func (q Queries) ListSearches(ctx context.Context, project, below int64, shown string,
	limit int) ([]store.Search, error) {
	return db.List[store.Search](ctx, q, "search_list", db.A{"project": project, "below": below,
		"shown": shown, "limit": limit})
}

// SearchSums adds up some searches; those without a run are left out.
func (q Queries) SearchSums(ctx context.Context, project int64, searches []int, lower bool) ([]store.SearchSum, error) {
	return db.List[store.SearchSum](ctx, q, "search_sums", db.A{"project": project,
		"searches": searches, "lower": lower})
}

// ArchiveSearch takes a search out of the list, or puts it back.
func (q Queries) ArchiveSearch(ctx context.Context, project int64, number int, archived bool) error {
	_, err := q.Exec(ctx, "search_archive", db.A{"project": project, "number": number, "archived": archived})
	return err
}

// DeleteSearch deletes a search; its runs stay.
func (q Queries) DeleteSearch(ctx context.Context, project int64, number int) error {
	_, err := q.Exec(ctx, "search_delete", db.A{"project": project, "number": number})
	return err
}

// SetBudget changes how many trials a search has.
func (q Queries) SetBudget(ctx context.Context, project int64, number, budget int) error {
	_, err := q.Exec(ctx, "search_budget", db.A{"project": project, "number": number, "budget": budget})
	return err
}

// Trials lists those of some searches, by trial.
func (q Queries) Trials(ctx context.Context, project int64, searches []int) ([]store.Trial, error) {
	return db.List[store.Trial](ctx, q, "search_trials", db.A{"project": project, "searches": searches})
}
