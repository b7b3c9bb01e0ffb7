package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"
	"unicode"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/core/verdict"
	"kembrel/store/pg"
)

// runQuery reads what runs are asked for.
func runQuery(project int64, o verdict.Objective, in *api.RunsInput) (q pg.RunQuery, err error) {
	now := time.Now()
	q = pg.RunQuery{Project: project, Limit: in.Limit + 1, Descending: in.Order == "descending" || in.Sort == "" && in.Order == "",
		Objective: o.Curve, Lower: func(curve string) bool { return lowerIsBetter(o, curve) }}
	if strings.TrimSpace(in.Where) != "" {
		if q.Where, err = filter.Parse(in.Where, now); err != nil {
			return q, filterProblem("where", err)
		}
	}
	switch in.Sort {
	case "":
	case "best", "last":
		q.Sort = &filter.Node{Op: map[string]filter.Op{"best": filter.Best, "last": filter.Last}[in.Sort], Kind: filter.Number, Name: o.Curve}
		if in.Order == "" {
			q.Descending = !lowerIsBetter(o, o.Curve)
		}
	default:
		if q.Sort, err = filter.ParseValue(in.Sort, now); err != nil {
			return q, filterProblem("sort", err)
		}
	}
	if in.Cursor == "" {
		return q, nil
	}
	text, err := base64.RawURLEncoding.DecodeString(in.Cursor)
	if err == nil {
		err = json.Unmarshal(text, &q.After)
	}
	if err != nil || q.After == nil {
		return q, api.Fail(api.Invalid, "cursor %.40q is none that this service gave out", in.Cursor)
	}
	return q, nil
}

// filterProblem says where in an expression what is wrong.
func filterProblem(where string, err error) error {
	var e *filter.Error
	if errors.As(err, &e) {
		p := api.Fail(api.Invalid, "%s, %v", where, e)
		p.Column = e.Column
		return p
	}
	return err
}

func runCursor(p pg.RunPlace) string {
	text, _ := json.Marshal(p)
	return base64.RawURLEncoding.EncodeToString(text)
}

// lowerIsBetter says in which direction a curve is better: as the objective says of its own curve; otherwise losses and errors go down, the
// rest up.
func lowerIsBetter(o verdict.Objective, curve string) bool {
	if curve == o.Curve {
		return o.Direction == verdict.Lower
	}
	measure, _, _ := strings.Cut(curve, ".")
	return slices.ContainsFunc([]string{"loss", "error", "perplexity"}, func(word string) bool { return strings.Contains(measure, word) })
}

// cleanEdit checks what a person changes.
func cleanEdit(in *api.RunEdit) (title *string, tags []string, err error) {
	if in.Body.Title != nil {
		text := clean(*in.Body.Title)
		title = &text
	}
	if in.Body.Note != nil {
		text := clean(*in.Body.Note)
		in.Body.Note = &text
	}
	if in.Body.Tags == nil {
		return title, nil, nil
	}
	tags = []string{}
	for _, t := range *in.Body.Tags {
		if t = strings.TrimSpace(clean(t)); t == "" || len(t) > 60 || strings.ContainsFunc(t, unicode.IsControl) {
			return nil, nil, api.Fail(api.Invalid, "tag %.80q has not 1 to 60 characters", t)
		}
		if !slices.Contains(tags, t) {
			tags = append(tags, t)
		}
	}
	return title, tags, nil
}

// states are the values that a run's state can have.
var states = []string{"failed", "finished", "lost", "running", "stopped"}

// CompleteFilter offers words for the end of a filter.
func (s *Service) CompleteFilter(ctx context.Context, _ Who, in *api.CompletionInput) (*api.Completions, error) {
	p, _, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	list, err := s.db.Words(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	words := filter.Words{Values: map[string][]string{"state": states}}
	for _, w := range list {
		switch w.Kind {
		case "hyper":
			words.Hyper = append(words.Hyper, w.Word)
		case "curve":
			words.Curves = append(words.Curves, w.Word)
		default:
			words.Values[w.Kind] = append(words.Values[w.Kind], w.Word)
		}
	}
	return &api.Completions{Items: filter.Complete(in.Text, words)}, nil
}
