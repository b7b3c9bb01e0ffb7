package finding

import (
	"context"
	"encoding/json"

	"kembrel/api"
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
	columns, _, err := ColumnsOf(p.Objective, in.Columns)
	if err != nil {
		return nil, err
	}
	q.Limit = in.Limit + 1
	places, err := s.db.FindRuns(ctx, q)
	if err != nil {
		return nil, OrOutOfRange(err)
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
	var values map[int64][]json.RawMessage
	if len(columns) > 0 {
		if values, err = s.db.RunValues(ctx, q, numbers, columns); err != nil {
			return nil, OrOutOfRange(err)
		}
	}
	base, err := s.baselineBest(ctx, p)
	if err != nil {
		return nil, err
	}
	return act.Page(places, in.Limit, func(place store.RunPlace) api.Run {
		r := byNumber[place.Number]
		run := s.ToRun(ctx, in.Project, p.Objective, r, byRun[r.ID])
		if base != nil && run.Best != nil && r.Number != p.Baseline {
			less := run.Best.Value - *base
			run.Against = &less
		}
		run.Values = values[place.Number]
		return run
	}, runCursor), nil
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
