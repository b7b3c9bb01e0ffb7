package curves

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"kembrel/core/curve"
	"kembrel/store/pg/db"
)

// writeBehind writes rows for the curves of runs whose summaries went on, those first that have waited longest, until
// its time is over; at least of some runs. only, if not nil, names the runs.
func (s *Store) writeBehind(ctx context.Context, only []int64, length time.Duration) error {
	began := time.Now()
	for {
		n := 0
		err := s.inTx(ctx, func(q Queries) error {
			rows, err := db.List[packedSummaries](ctx, q, "run_summaries_behind",
				db.A{"only": only, "limit": summaryRuns})
			if err != nil || len(rows) == 0 {
				return err
			}
			n = len(rows)
			var sums []summaryOf
			runs := make([]int64, n)
			for i, r := range rows {
				runs[i] = r.Run
				all, err := curve.DecodeSummaries(r.Payload)
				if err != nil {
					return fmt.Errorf("summaries of run %d: %w", r.Run, err)
				}
				for _, one := range all {
					sums = append(sums, summaryOf{r.Run, one.Curve, one.Summary})
				}
			}
			if err := q.setSummaries(ctx, sums); err != nil {
				return err
			}
			_, err = q.Exec(ctx, "run_summaries_written", db.A{"runs": runs})
			return err
		})
		if err != nil || n < summaryRuns || time.Since(began) > length {
			return err
		}
	}
}

// summaryOf is a summary and whose it is.
type summaryOf struct {
	run   int64
	curve int
	curve.Summary
}

func (q Queries) setSummaries(ctx context.Context, sums []summaryOf) error {
	if len(sums) == 0 {
		return nil
	}
	slices.SortFunc(sums, func(a, b summaryOf) int { // one order of locking for all
		return cmp.Or(cmp.Compare(a.run, b.run), cmp.Compare(a.curve, b.curve))
	})
	n := len(sums)
	runs, ids := make([]int64, n), make([]int, n)
	counts, nans, infinites, everies, sketches := make([]int64, n), make([]int64, n), make([]int64, n),
		make([]int64, n), make([][]byte, n)
	last, low, high := newReadings(n), newReadings(n), newReadings(n)
	for i, s := range sums {
		runs[i], ids[i] = s.run, s.curve
		counts[i], nans[i], infinites[i], everies[i] = s.Count, s.NaN, s.Infinite, s.Sketch.Every
		if sketches[i] = []byte{}; len(s.Sketch.Values) > 0 {
			sketches[i] = curve.AppendValues(nil, s.Sketch.Values)
		}
		last.set(i, s.Last)
		low.set(i, s.Lowest)
		high.set(i, s.Highest)
	}
	_, err := q.Exec(ctx, "summary_set", db.A{"runs": runs, "curves": ids, "counts": counts, "nans": nans,
		"infinites":  infinites,
		"last_steps": last.steps, "last_epochs": last.epochs, "last_times": last.times, "last_values": last.values,
		"low_steps": low.steps, "low_epochs": low.epochs, "low_times": low.times, "low_values": low.values,
		"high_steps": high.steps, "high_epochs": high.epochs, "high_times": high.times, "high_values": high.values,
		"everies": everies, "sketches": sketches})
	return err
}

// readings are columns of readings.
type readings struct {
	steps, times   []int64
	epochs, values []float64
}

func newReadings(n int) readings {
	return readings{make([]int64, n), make([]int64, n), make([]float64, n), make([]float64, n)}
}

func (r readings) set(i int, v curve.Reading) {
	r.steps[i], r.epochs[i], r.times[i], r.values[i] = v.Step, v.Epoch, v.Time, v.Value
}
