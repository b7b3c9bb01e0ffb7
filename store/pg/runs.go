package pg

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"kembrel/core/checkpoint"
	"kembrel/core/curve"
)

// Project is a row of projects with its counts.
type Project struct {
	ID                    int64
	Key, Title, Objective string
	Created               time.Time
	Creator               int64
	Baseline              int // number of a run; 0: none
}

// CountedProject is a project with how many runs it has.
type CountedProject struct {
	Project
	Runs, Running, Lost int64
}

// Run is a row of runs.
type Run struct {
	ID               int64
	Number           int
	Title            string
	State            string
	Who              string
	Host             string
	Started          time.Time
	Ended            *time.Time
	Took             float64    // seconds of its legs that have ended
	Since            *time.Time // start of the leg that runs
	Hyper            json.RawMessage
	Step             int64
	Epoch            float64
	Verdict          json.RawMessage
	Dispute          json.RawMessage
	Tags             []string
	Note             string
	Needs            []string
	Origin           json.RawMessage
	Start            json.RawMessage
	Repeats          json.RawMessage
	Archived, Doomed *time.Time
	Creator          int64
	Search, Trial    int // 0: of none
}

// NeedsOrUsual are the parts that resuming the run needs.
func (r Run) NeedsOrUsual() []string {
	if len(r.Needs) == 0 {
		return checkpoint.UsualNeeds
	}
	return r.Needs
}

// NewRun is what a run is made of.
type NewRun struct {
	Project, Creator int64
	Key              string
	Title, Host      string
	Recipe           any
	Origin           any // nil: none
	Search, Trial    int // 0: of none
	Started          time.Time
}

// Summary is what one curve of a run comes to.
type Summary struct {
	Run                                      int64
	Curve                                    int
	Name                                     string
	Count, NaN, Infinite                     int64
	LastStep, LastTime, LowStep, LowTime     int64
	HighStep, HighTime                       int64
	LastEpoch, LastValue, LowEpoch, LowValue float64
	HighEpoch, HighValue                     float64
	SketchEvery                              int64
	Sketch                                   []byte // curve.AppendValues
}

// Core is the summary as core computes it.
func (s Summary) Core() curve.Summary {
	var sketch []float64
	if len(s.Sketch) > 0 {
		sketch, _ = curve.DecodeValues(s.Sketch) // a damaged drawing is left out
	}
	return curve.Summary{
		Count: s.Count, NaN: s.NaN, Infinite: s.Infinite,
		Last:    curve.Reading{Point: curve.Point{Step: s.LastStep, Epoch: s.LastEpoch, Time: s.LastTime}, Value: s.LastValue},
		Lowest:  curve.Reading{Point: curve.Point{Step: s.LowStep, Epoch: s.LowEpoch, Time: s.LowTime}, Value: s.LowValue},
		Highest: curve.Reading{Point: curve.Point{Step: s.HighStep, Epoch: s.HighEpoch, Time: s.HighTime}, Value: s.HighValue},
		Sketch:  curve.Sketch{Every: s.SketchEvery, Seen: s.Count, Values: sketch},
	}
}

// AddProject makes a project; false where the key is taken.
func (q Queries) AddProject(ctx context.Context, key, title, objective string, creator int64) (int64, bool, error) {
	id, err := value[int64](ctx, q, "project_add", A{"key": key, "title": title, "objective": objective, "creator": creator})
	if none(err) {
		return 0, false, nil
	}
	return id, err == nil, err
}

// ProjectByKey finds a project.
func (q Queries) ProjectByKey(ctx context.Context, key string) (Project, error) {
	return one[Project](ctx, q, "project_by_key", A{"key": key})
}

// ListProjects lists projects by key, with counts; a key given lists only that one.
func (q Queries) ListProjects(ctx context.Context, key, after string, limit int) ([]CountedProject, error) {
	return list[CountedProject](ctx, q, "project_list", A{"key": key, "after": after, "limit": limit})
}

// BestRun is the best run of a project by its objective.
type BestRun struct {
	ID     int64
	Number int
}

// BestRun finds it; ErrNone where no run has a finite reading. O(log runs).
func (q Queries) BestRun(ctx context.Context, project int64, lower bool) (BestRun, error) {
	if lower {
		return one[BestRun](ctx, q, "project_best_lower", A{"project": project})
	}
	return one[BestRun](ctx, q, "project_best_higher", A{"project": project})
}

// GatherTally brings the rows together that count a project's runs.
func (q Queries) GatherTally(ctx context.Context) error {
	_, err := q.exec(ctx, "tally_gather", nil)
	return err
}

// ChangeProject changes what is not nil.
func (q Queries) ChangeProject(ctx context.Context, id int64, title, objective *string) error {
	_, err := q.exec(ctx, "project_change", A{"id": id, "title": title, "objective": objective})
	return err
}

// RunByKey finds a run by the key it was made with.
func (q Queries) RunByKey(ctx context.Context, key string) (id int64, number int, project int64, err error) {
	type found struct {
		ID      int64
		Number  int
		Project int64
	}
	f, err := one[found](ctx, q, "run_by_key", A{"key": key})
	return f.ID, f.Number, f.Project, err
}

// AddRun makes a run with the project's next number. It belongs in a transaction.
func (q Queries) AddRun(ctx context.Context, r NewRun) (id int64, number int, err error) {
	if number, err = value[int](ctx, q, "run_number", A{"project": r.Project}); err != nil {
		return 0, 0, err
	}
	id, err = value[int64](ctx, q, "run_add", A{"project": r.Project, "number": number, "key": r.Key, "title": r.Title,
		"creator": r.Creator, "host": r.Host, "recipe": r.Recipe, "origin": r.Origin, "search": r.Search, "trial": r.Trial, "started": r.Started})
	return id, number, err
}

// RunID finds a run by its address.
func (q Queries) RunID(ctx context.Context, project string, number int) (int64, error) {
	return value[int64](ctx, q, "run_id", A{"project": project, "number": number})
}

// RunByNumber finds one run of a project; ErrNone where there is none.
func (q Queries) RunByNumber(ctx context.Context, project int64, number int) (Run, error) {
	rows, err := q.RunsByNumber(ctx, project, []int64{int64(number)})
	if err == nil && len(rows) == 0 {
		err = ErrNone
	}
	if err != nil {
		return Run{}, err
	}
	return rows[0], nil
}

// RunsByNumber finds some runs of a project, in no order.
func (q Queries) RunsByNumber(ctx context.Context, project int64, numbers []int64) ([]Run, error) {
	return list[Run](ctx, q, "run_list", A{"project": project, "numbers": numbers})
}

// RunTitles are some runs of a project with what they are called, and nothing else, in no order.
func (q Queries) RunTitles(ctx context.Context, project int64, numbers []int64) ([]Run, error) {
	titles, err := list[struct {
		ID     int64
		Number int
		Title  string
	}](ctx, q, "run_titles", A{"project": project, "numbers": numbers})
	out := make([]Run, len(titles))
	for i, t := range titles {
		out[i] = Run{ID: t.ID, Number: t.Number, Title: t.Title}
	}
	return out, err
}

// ChangeRun changes what is not nil.
func (q Queries) ChangeRun(ctx context.Context, id int64, title *string, tags []string, note *string) error {
	_, err := q.exec(ctx, "run_change", A{"id": id, "title": title, "tags": tags, "note": note})
	return err
}

// SetRunState sets a run's state and end; false where it was so already.
func (q Queries) SetRunState(ctx context.Context, id int64, state string, ended *time.Time) (bool, error) {
	n, err := q.exec(ctx, "run_state", A{"id": id, "state": state, "ended": ended})
	return n > 0, err
}

// Summaries lists the summaries of some runs' curves, of one name or all (""), by run and name.
func (q Queries) Summaries(ctx context.Context, runs []int64, name string) (out []Summary, err error) {
	if name == "" {
		out, err = list[Summary](ctx, q, "summaries", A{"runs": runs})
	} else {
		out, err = list[Summary](ctx, q, "summaries_named", A{"runs": runs, "name": name})
	}
	if err != nil {
		return nil, err
	}
	behind, err := list[packedSummaries](ctx, q, "summaries_behind", A{"runs": runs})
	if err != nil || len(behind) == 0 {
		return out, err
	}
	return q.withBehind(ctx, out, behind, name)
}

// withBehind puts what the rows of curves have not yet in their place.
func (q Queries) withBehind(ctx context.Context, rows []Summary, behind []packedSummaries, name string) ([]Summary, error) {
	runs := make([]int64, len(behind))
	for i, b := range behind {
		runs[i] = b.Run
	}
	named, err := list[struct {
		Run  int64
		ID   int
		Name string
	}](ctx, q, "curves_of", A{"runs": runs, "name": name})
	if err != nil {
		return nil, err
	}
	type key struct {
		run   int64
		curve int
	}
	names := make(map[key]string, len(named))
	for _, n := range named {
		names[key{n.Run, n.ID}] = n.Name
	}
	rows = slices.DeleteFunc(rows, func(s Summary) bool { return slices.Contains(runs, s.Run) })
	for _, b := range behind {
		all, err := curve.DecodeSummaries(b.Payload)
		if err != nil {
			return nil, fmt.Errorf("summaries of run %d: %w", b.Run, err)
		}
		for _, one := range all {
			if n, ok := names[key{b.Run, one.Curve}]; ok {
				rows = append(rows, summaryRow(b.Run, n, one))
			}
		}
	}
	slices.SortFunc(rows, func(a, b Summary) int { return cmp.Or(cmp.Compare(a.Run, b.Run), cmp.Compare(a.Name, b.Name)) })
	return rows, nil
}

// summaryRow is a summary as a row has it.
func summaryRow(run int64, name string, s curve.Numbered) Summary {
	out := Summary{Run: run, Curve: s.Curve, Name: name, Count: s.Count, NaN: s.NaN, Infinite: s.Infinite, SketchEvery: s.Sketch.Every,
		LastStep: s.Last.Step, LastEpoch: s.Last.Epoch, LastTime: s.Last.Time, LastValue: s.Last.Value,
		LowStep: s.Lowest.Step, LowEpoch: s.Lowest.Epoch, LowTime: s.Lowest.Time, LowValue: s.Lowest.Value,
		HighStep: s.Highest.Step, HighEpoch: s.Highest.Epoch, HighTime: s.Highest.Time, HighValue: s.Highest.Value}
	if len(s.Sketch.Values) > 0 {
		out.Sketch = curve.AppendValues(nil, s.Sketch.Values)
	}
	return out
}

// SetHyper keeps hyperparameters.
func (q Queries) SetHyper(ctx context.Context, run int64, values map[string]json.RawMessage) error {
	for name, v := range values {
		if _, err := q.exec(ctx, "hyper_set", A{"run": run, "name": name, "value": v}); err != nil {
			return err
		}
	}
	return nil
}

// Hyper reads a run's hyperparameters.
func (q Queries) Hyper(ctx context.Context, run int64) (map[string]json.RawMessage, error) {
	rows, err := list[struct {
		Name  string
		Value json.RawMessage
	}](ctx, q, "hyper_list", A{"run": run})
	out := make(map[string]json.RawMessage, len(rows))
	for _, r := range rows {
		out[r.Name] = r.Value
	}
	return out, err
}

// Recipe reads a run's recipe.
func (q Queries) Recipe(ctx context.Context, run int64) (json.RawMessage, error) {
	return value[json.RawMessage](ctx, q, "run_recipe", A{"run": run})
}

// Recipes reads the recipes of some runs; they may be large.
func (q Queries) Recipes(ctx context.Context, runs []int64) (map[int64]json.RawMessage, error) {
	rows, err := list[struct {
		ID     int64
		Recipe json.RawMessage
	}](ctx, q, "run_recipes", A{"runs": runs})
	out := make(map[int64]json.RawMessage, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Recipe
	}
	return out, err
}

// ProgramSays keeps what a program told of itself: what goes into the recipe, the parts that resuming needs (nil: as before), its
// starting weights (nil: as before).
func (q Queries) ProgramSays(ctx context.Context, run int64, recipe any, needs []string, start any) error {
	_, err := q.exec(ctx, "run_says", A{"run": run, "recipe": recipe, "needs": needs, "start": start})
	return err
}

// SetRepeats keeps how a rerun compares with what it repeats.
func (q Queries) SetRepeats(ctx context.Context, run int64, repeats any) error {
	_, err := q.exec(ctx, "repeats_set", A{"run": run, "repeats": repeats})
	return err
}

// Note is a line left on a run.
type Note struct {
	Leg  int
	At   time.Time
	Text string
}

// AddNote keeps a note.
func (q Queries) AddNote(ctx context.Context, run int64, n Note) error {
	_, err := q.exec(ctx, "note_add", A{"run": run, "leg": n.Leg, "at": n.At, "text": n.Text})
	return err
}

// ListNotes lists the first thousand notes of a run.
func (q Queries) ListNotes(ctx context.Context, run int64) ([]Note, error) {
	return list[Note](ctx, q, "note_list", A{"run": run})
}
