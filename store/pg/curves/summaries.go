package curves

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// Summaries lists the summaries of some runs' curves, of one name or all (""), by run and name.
func (q Queries) Summaries(ctx context.Context, runs []int64, name string) (out []store.Summary, err error) {
	if name == "" {
		out, err = db.List[store.Summary](ctx, q, "summaries", db.A{"runs": runs})
	} else {
		out, err = db.List[store.Summary](ctx, q, "summaries_named", db.A{"runs": runs, "name": name})
	}
	if err != nil {
		return nil, err
	}
	behind, err := db.List[packedSummaries](ctx, q, "summaries_behind", db.A{"runs": runs})
	if err != nil || len(behind) == 0 {
		return out, err
	}
	return q.withBehind(ctx, out, behind, name)
}

// withBehind puts what the rows of curves have not yet in their place.
func (q Queries) withBehind(ctx context.Context, rows []store.Summary, behind []packedSummaries,
	name string) ([]store.Summary, error) {
	runs := make([]int64, len(behind))
	for i, b := range behind {
		runs[i] = b.Run
	}
	named, err := db.List[struct {
		Run  int64
		ID   int
		Name string
	}](ctx, q, "curves_of", db.A{"runs": runs, "name": name})
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
	rows = slices.DeleteFunc(rows, func(s store.Summary) bool { return slices.Contains(runs, s.Run) })
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
	slices.SortFunc(rows, func(a, b store.Summary) int {
		return cmp.Or(cmp.Compare(a.Run, b.Run),
			cmp.Compare(a.Name, b.Name))
	})
	return rows, nil
}

// summaryRow is a summary as a row has it.
func summaryRow(run int64, name string, s curve.Numbered) store.Summary {
	out := store.Summary{Run: run, Curve: s.Curve, Name: name, Count: s.Count, NaN: s.NaN, Infinite: s.Infinite,
		SketchEvery: s.Sketch.Every,
		LastStep:    s.Last.Step, LastEpoch: s.Last.Epoch, LastTime: s.Last.Time, LastValue: s.Last.Value,
		LowStep: s.Lowest.Step, LowEpoch: s.Lowest.Epoch, LowTime: s.Lowest.Time, LowValue: s.Lowest.Value,
		HighStep: s.Highest.Step, HighEpoch: s.Highest.Epoch, HighTime: s.Highest.Time, HighValue: s.Highest.Value}
	if len(s.Sketch.Values) > 0 {
		out.Sketch = curve.AppendValues(nil, s.Sketch.Values)
	}
	return out
}
