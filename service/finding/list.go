package finding

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/core/sheet"
	"kembrel/service/act"
	"kembrel/store"
)

// ListRuns lists a project's runs: those that fulfil a condition, in the order asked for.
func (s *Finder) ListRuns(ctx context.Context, _ act.Who, in *api.RunsInput) (*api.Page[api.Run], error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	q, err := RunQuery(p.ID, p.Objective, in.RunChoice)
	if err != nil {
		return nil, err
	}
	if q.After, err = afterCursor(in.Cursor); err != nil {
		return nil, err
	}
	columns, texts, err := ColumnsOf(p.Objective, in.Columns)
	if err != nil {
		return nil, err
	}
	q.Limit = in.Limit + 1
	var places []store.RunPlace
	var values map[int64][]json.RawMessage
	err = s.Costly(ctx, AskedBy(in.RunChoice, q.Where, q.Sort, columns, texts), func(ctx context.Context) (err error) {
		places, err = s.db.FindRuns(ctx, q)
		if err != nil || len(columns) == 0 {
			return err
		}
		numbers := make([]int64, len(places))
		for i, place := range places {
			numbers[i] = place.Number
		}
		values, err = s.db.RunValues(ctx, q, numbers, columns)
		return err
	})
	if errors.Is(err, store.ErrCursor) {
		return nil, badCursor(in.Cursor)
	}
	if err != nil {
		return nil, err
	}
	numbers := make([]int64, len(places))
	for i, place := range places {
		numbers[i] = place.Number
	}
	rows, err := s.db.RunsByNumber(ctx, p.ID, numbers)
	if err != nil {
		return nil, err
	}
	ids, byNumber := make([]int64, len(rows)), map[int64]store.Run{}
	for i, r := range rows {
		ids[i], byNumber[int64(r.Number)] = r.ID, r
	}
	summaries, err := s.db.Summaries(ctx, ids, p.Objective.Curve)
	if err != nil {
		return nil, err
	}
	byRun := map[int64]store.Summary{}
	for _, sum := range summaries {
		byRun[sum.Run] = sum
	}
	base, err := s.baselineBest(ctx, p)
	if err != nil {
		return nil, err
	}
	page := act.Page(places, in.Limit, func(place store.RunPlace) api.Run {
		r := byNumber[place.Number]
		run := s.ToRun(ctx, in.Project, p.Objective, r, byRun[r.ID])
		if base != nil && run.Best != nil && r.Number != p.Baseline {
			less := run.Best.Value - *base
			run.Against = &less
		}
		run.Values = values[place.Number]
		return run
	}, runCursor)
	if len(places) == 0 && in.Cursor == "" {
		page.Says, err = s.unknown(ctx, p, q.Where)
	}
	return page, err
}

// unknown says which names of a condition that no run fulfils the latest runs do not have; "": they have all.
func (s *Finder) unknown(ctx context.Context, p store.Project, where *filter.Node) (string, error) {
	if where == nil {
		return "", nil
	}
	words, err := s.words(ctx, p.ID)
	if err != nil || len(words.Hyper)+len(words.Curves) == 0 {
		return "", err
	}
	var missing []string
	for _, leaf := range where.Leaves() {
		kind, names := "", words.Hyper
		switch leaf.Op {
		case filter.Hyper, filter.Has:
			kind = "hyperparameter"
		case filter.Best, filter.Last, filter.Lowest, filter.Highest, filter.AtBest:
			kind, names = "curve", words.Curves
		}
		if kind == "" || leaf.Name == "" || slices.Contains(names, leaf.Name) {
			continue
		}
		text := fmt.Sprintf("%s %q", kind, leaf.Name)
		if meant := near(leaf.Name, names); meant != "" {
			text += fmt.Sprintf(" (there is %q)", meant)
		}
		if !slices.Contains(missing, text) {
			missing = append(missing, text)
		}
	}
	if len(missing) == 0 {
		return "", nil
	}
	return fmt.Sprintf("None of the latest runs of %s has a %s.", p.Key, strings.Join(missing, ", or a ")), nil
}

// baselineBest is the best reading of a project's baseline; nil where it has none.
func (s *Finder) baselineBest(ctx context.Context, p store.Project) (*api.Float, error) {
	if p.Baseline == 0 {
		return nil, nil
	}
	row, err := s.db.RunByNumber(ctx, p.ID, p.Baseline)
	if err != nil { // it was deleted
		return nil, nil
	}
	sums, err := s.db.Summaries(ctx, []int64{row.ID}, p.Objective.Curve)
	if err != nil || len(sums) == 0 {
		return nil, err
	}
	best, ok := p.Objective.Best(sums[0].Core())
	if !ok {
		return nil, nil
	}
	v := api.Float(best.Value)
	return &v, nil
}

// near is the name that another was most likely meant to be: one that differs in at most a third of its characters; "":
// none.
func near(name string, names []string) string {
	best, least := "", len(name)/3+1
	for _, other := range names {
		if off, _ := sheet.CharactersOff(strings.ToLower(name), strings.ToLower(other)); off < least {
			best, least = other, off
		}
	}
	return best
}
