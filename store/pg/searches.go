package pg

import (
	"context"
	"encoding/json"
	"time"
)

// Search is a row of searches.
type Search struct {
	Number          int
	Project         int64
	Title, Strategy string
	Space           string
	Seed            int64
	Budget          int
	Command         json.RawMessage
	Who             string
	Started         time.Time
	Archived        *time.Time
}

// NewSearch is what a search is made of.
type NewSearch struct {
	Project, Person        int64
	Key                    string
	Title, Strategy, Space string
	Seed                   int64
	Budget                 int
	Command                []string
}

// AddSearch makes a search, unless the key made one before. It belongs in a transaction.
func (q Queries) AddSearch(ctx context.Context, n NewSearch) error {
	_, err := q.exec(ctx, "search_add", A{"project": n.Project, "key": n.Key, "title": n.Title, "strategy": n.Strategy, "space": n.Space, "seed": n.Seed,
		"budget": n.Budget, "command": n.Command, "person": n.Person})
	return err
}

// SearchByNumber finds a search of a project.
func (q Queries) SearchByNumber(ctx context.Context, project int64, number int) (Search, error) {
	return one[Search](ctx, q, "search_one", A{"project": project, "number": number, "key": nil})
}

// SearchByKey finds a search by the key it was made with.
func (q Queries) SearchByKey(ctx context.Context, key string) (Search, error) {
	return one[Search](ctx, q, "search_one", A{"project": 0, "number": 0, "key": key})
}

// ListSearches lists a project's searches below a number (0: all), the newest first; shown is active, archived or all.
func (q Queries) ListSearches(ctx context.Context, project, below int64, shown string, limit int) ([]Search, error) {
	return list[Search](ctx, q, "search_list", A{"project": project, "below": below, "shown": shown, "limit": limit})
}

// SearchSum is how far a search is, by the newest run of each trial.
type SearchSum struct {
	Search                               int
	Started, Done, Running, Failed, Lost int
	BestRun, BestTrial                   *int
	Best                                 *float64
}

// SearchSums adds up some searches; those without a run are left out.
func (q Queries) SearchSums(ctx context.Context, project int64, searches []int, lower bool) ([]SearchSum, error) {
	return list[SearchSum](ctx, q, "search_sums", A{"project": project, "searches": searches, "lower": lower})
}

// ArchiveSearch takes a search out of the list, or puts it back.
func (q Queries) ArchiveSearch(ctx context.Context, project int64, number int, archived bool) error {
	_, err := q.exec(ctx, "search_archive", A{"project": project, "number": number, "archived": archived})
	return err
}

// DeleteSearch deletes a search; its runs stay.
func (q Queries) DeleteSearch(ctx context.Context, project int64, number int) error {
	_, err := q.exec(ctx, "search_delete", A{"project": project, "number": number})
	return err
}

// SetBudget changes how many trials a search has.
func (q Queries) SetBudget(ctx context.Context, project int64, number, budget int) error {
	_, err := q.exec(ctx, "search_budget", A{"project": project, "number": number, "budget": budget})
	return err
}

// Trial is the newest run of a trial.
type Trial struct {
	Search, Trial, Number int
	State                 string
	Best                  *float64
	Started               time.Time
	Ended                 *time.Time
	Took                  float64
	Done                  bool // it ended by itself or by a rule
}

// Trials lists those of some searches, by trial.
func (q Queries) Trials(ctx context.Context, project int64, searches []int) ([]Trial, error) {
	return list[Trial](ctx, q, "search_trials", A{"project": project, "searches": searches})
}
