package finding

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// RunQuery reads what runs are asked for.
func RunQuery(project int64, o verdict.Objective, in api.RunChoice) (q store.RunQuery, err error) {
	now := time.Now()
	q = store.RunQuery{Project: project, Shown: in.Shown, Descending: in.Order == "descending" ||
		in.Sort == "" && in.Order == "",
		Objective: o.Curve, Lower: func(curve string) bool { return LowerIsBetter(o, curve) }}
	if strings.TrimSpace(in.Where) != "" {
		if q.Where, err = filter.Parse(in.Where, now); err != nil {
			return q, FilterProblem("where", err)
		}
		q.Where.OfObjective(o.Curve)
	}
	if in.Sort != "" {
		if q.Sort, err = ValueOf(o, in.Sort, now); err != nil {
			return q, FilterProblem("sort", err)
		}
		if in.Order == "" && q.Sort.Name != "" && slices.Contains(better, q.Sort.Op) {
			q.Descending = !LowerIsBetter(o, q.Sort.Name)
		}
	}
	return q, nil
}

// better are the figures of which the better comes first where nobody says which.
var better = []filter.Op{filter.Best, filter.Last, filter.AtBest, filter.Evaluated}

// ValueOf reads a value of a run, such as hyper.lr or at("accuracy.val"); best and last alone are those of the
// objective.
func ValueOf(o verdict.Objective, text string, now time.Time) (*filter.Node, error) {
	n, err := filter.ParseValue(text, now)
	return n.OfObjective(o.Curve), err
}

// maxColumns is how many values of each run one answer brings.
const maxColumns = 60

// ColumnsOf reads a list of values.
func ColumnsOf(o verdict.Objective, text string) ([]*filter.Node, []string, error) {
	list := filter.SplitList(text)
	if len(list) > maxColumns {
		return nil, nil, api.Fail(api.Invalid, "%d columns are more than %d", len(list), maxColumns)
	}
	var out []*filter.Node
	for i, each := range list {
		n, err := filter.ParseColumn(each, time.Now())
		if err != nil {
			return nil, nil, FilterProblem(fmt.Sprintf("column %d (%.60s)", i+1, each), err)
		}
		out = append(out, n.OfObjective(o.Curve))
	}
	return out, list, nil
}

// afterCursor is the place behind which a page begins; nil: the first.
func afterCursor(cursor string) (after *store.RunPlace, err error) {
	if cursor == "" {
		return nil, nil
	}
	text, err := base64.RawURLEncoding.DecodeString(cursor)
	if err == nil {
		err = json.Unmarshal(text, &after)
	}
	if err != nil || after == nil {
		return nil, badCursor(cursor)
	}
	return after, nil
}

func badCursor(cursor string) error {
	return api.Fail(api.Malformed, "%.40q is not a cursor that this service gives out", cursor)
}

// ListLandmarks counts runs and says where pages of them can begin.
func (s *Finder) ListLandmarks(ctx context.Context, _ act.Who, in *api.LandmarksInput) (*api.Landmarks, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	q, err := RunQuery(p.ID, p.Objective, in.RunChoice)
	if err != nil {
		return nil, err
	}
	var marks []store.Landmark
	err = s.Costly(ctx, AskedBy(in.RunChoice, q.Where, q.Sort, nil, nil), func(ctx context.Context) (err error) {
		marks, err = s.db.Landmarks(ctx, q, in.Every)
		return err
	})
	if err != nil {
		return nil, err
	}
	out := &api.Landmarks{Every: in.Every, Cursors: []string{}}
	for _, m := range marks {
		out.Total = m.Place
		if m.Place%int64(in.Every) == 0 {
			out.Cursors = append(out.Cursors, runCursor(m.RunPlace))
		}
	}
	return out, nil
}

// OrOutOfRange says of a number that the database could not compute that it came from the filter.
func OrOutOfRange(err error) error {
	if db.OutOfRange(err) {
		return api.Fail(api.Invalid, "a number in the filter grows beyond what can be calculated with")
	}
	return err
}

// FilterProblem says where in an expression what is wrong.
func FilterProblem(field string, err error) error {
	var e *filter.Error
	if errors.As(err, &e) {
		p := api.Fail(api.Invalid, "%s, %v", field, e)
		p.Field, p.Column = field, e.Column
		return p
	}
	return err
}

func runCursor(p store.RunPlace) string {
	text, _ := json.Marshal(p)
	return base64.RawURLEncoding.EncodeToString(text)
}

// LowerIsBetter says in which direction a curve is better: as the objective says of its own curve; otherwise losses and
// errors go down, the rest up.
func LowerIsBetter(o verdict.Objective, curve string) bool {
	if curve == o.Curve {
		return o.Direction == verdict.Lower
	}
	measure, _, _ := strings.Cut(curve, ".")
	return slices.Contains([]string{"mae", "mse", "rmse", "brier_score"}, measure) ||
		slices.ContainsFunc([]string{"loss", "error", "perplexity"},
			func(word string) bool { return strings.Contains(measure, word) })
}

// CompleteFilter offers words for the end of a filter.
func (s *Finder) CompleteFilter(ctx context.Context, _ act.Who, in *api.CompletionInput) (*api.Completions, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	words, err := s.words(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	out := &api.Completions{Items: []api.Suggestion{}}
	for _, s := range filter.Complete(in.Text, words) {
		out.Items = append(out.Items, api.Suggestion(s))
	}
	return out, nil
}

// GetWords lists what there is for columns and filters.
func (s *Finder) GetWords(ctx context.Context, _ act.Who, in *api.ProjectInput) (*api.Words, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	w, err := s.words(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	fields := make([]api.RunField, len(filter.Fields))
	for i, f := range filter.Fields {
		fields[i] = api.RunField{Name: f.Name, Kind: f.Kind.String(), Label: f.Label}
	}
	return &api.Words{Fields: fields, Hyper: append([]string{}, w.Hyper...),
		Curves: append([]string{}, w.Curves...), Tags: append([]string{}, w.Values["tags"]...)}, nil
}

func (s *Finder) words(ctx context.Context, project int64) (filter.Words, error) {
	words := filter.Words{Values: maps.Clone(filter.Few)}
	list, err := s.db.Words(ctx, project)
	if err != nil {
		return words, err
	}
	for _, w := range list {
		switch w.Kind {
		case "hyper":
			words.Hyper = append(words.Hyper, w.Word)
		case "curve":
			words.Curves = append(words.Curves, w.Word)
		default:
			if filter.Few[w.Kind] != nil {
				continue
			}
			words.Values[w.Kind] = append(words.Values[w.Kind], w.Word)
		}
	}
	return words, nil
}
