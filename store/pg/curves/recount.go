package curves

import (
	"context"
	"maps"
	"slices"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// summariseAnew counts everything of a run; 0 where another replica is at it.
func (s *Store) summariseAnew(ctx context.Context, run int64) (batches int64, err error) {
	err = s.inTx(ctx, func(q Queries) error {
		mine, err := db.Values[int64](ctx, q, "summary_locks", db.A{"runs": []int64{run}})
		if err != nil || len(mine) == 0 {
			return err
		}
		legs, err := q.ListLegs(ctx, run)
		if err != nil || len(legs) == 0 {
			return err
		}
		sums, err := s.sumAnew(ctx, q, run, legs)
		if err != nil {
			return err
		}
		drawn, err := q.drawnCurves(ctx, []int64{run})
		if err != nil {
			return err
		}
		all := make([]curve.Numbered, 0, len(sums))
		for _, id := range slices.Sorted(maps.Keys(sums)) {
			sum := sums[id]
			if drawn[run].Curve != id {
				sum.Sketch = curve.Sketch{Every: curve.NoSketch}
			}
			all = append(all, curve.Numbered{Curve: id, Summary: sum})
		}
		if err := q.keepSummaries(ctx, map[int64][]curve.Numbered{run: all}, drawn); err != nil {
			return err
		}
		for _, l := range legs {
			batches += l.Batches
			if _, err := q.Exec(ctx, "summarised_upto", db.A{"runs": []int64{run}, "legs": []int{l.Number},
				"batches": []int64{l.Batches}}); err != nil {
				return err
			}
		}
		return nil
	})
	return batches, err
}

// sumAnew counts all readings of a run. O(its readings).
func (s *Store) sumAnew(ctx context.Context, q Queries, run int64, legs []store.Leg) (map[int]curve.Summary, error) {
	if err := q.LockJournal(ctx); err != nil { // what is sealed meanwhile is still found in one place or the other
		return nil, err
	}
	if err := q.LockSealing(ctx, run); err != nil {
		return nil, err
	}
	// who writes its rows is done before they are cleared
	if _, err := q.Exec(ctx, "run_summary_lock", db.A{"run": run}); err != nil {
		return nil, err
	}
	if _, err := q.Exec(ctx, "summary_clear", db.A{"run": run}); err != nil {
		return nil, err
	}
	l := &look{Queries: q, run: run}
	l.pages = func(_ context.Context, do func(q Queries) error) error { return do(q) }
	if err := l.begin(ctx, store.Span{Run: run, To: everyStep}); err != nil {
		return nil, err
	}
	sealed, err := l.sealedReadings(ctx)
	if err != nil {
		return nil, err
	}
	copy(legs, l.legs) // as of now: these batches are counted, and no others
	ids := map[string]int{}
	for id, name := range l.names {
		ids[name] = id
	}
	sums := map[int]curve.Summary{}
	err = l.scan(ctx, store.Span{Run: run, To: everyStep}, sealed,
		func(name string, points []curve.Point, values []float64) error {
			sum, ok := sums[ids[name]]
			if !ok {
				sum = curve.NewSummary()
			}
			for i, v := range values {
				sum.Add(curve.Reading{Point: points[i], Value: v})
			}
			sums[ids[name]] = sum
			return nil
		})
	return sums, err
}
