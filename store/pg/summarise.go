package pg

import (
	"context"
	"fmt"
	"slices"

	"kembrel/core/curve"
	"kembrel/store"
)

// Summarise brings the summaries of runs with new batches up to date and returns those runs. Several replicas may do it at
// once: each run is done by one of them.
func (s *Store) Summarise(ctx context.Context) ([]int64, error) {
	todo, err := values[int64](ctx, s.Queries, "unsummarised", A{})
	if err != nil {
		return nil, err
	}
	var done []int64
	for _, run := range todo {
		mine, err := s.SummariseRun(ctx, run)
		if err != nil {
			return done, err
		}
		if mine {
			done = append(done, run)
		}
	}
	return done, nil
}

// SummariseRun does it for one run; false where another replica is at it.
func (s *Store) SummariseRun(ctx context.Context, run int64) (mine bool, err error) {
	err = s.InTx(ctx, func(q Queries) error {
		if mine, err = value[bool](ctx, q, "summary_lock", A{"run": run}); err != nil || !mine {
			return err
		}
		legs, err := q.ListLegs(ctx, run)
		if err != nil || len(legs) == 0 {
			return err
		}
		sums, err := s.sumUp(ctx, q, run, legs)
		if err != nil {
			return err
		}
		if err := q.setSummaries(ctx, run, sums); err != nil {
			return err
		}
		for _, l := range legs {
			if l.Summarised == l.Batches {
				continue
			}
			if _, err := q.exec(ctx, "summarised", A{"run": run, "leg": l.Number, "batches": l.Batches}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return mine, fmt.Errorf("summarise run %d: %w", run, err)
	}
	return mine, nil
}

// sumUp counts what came since the last time, up to the batches of legs, or everything anew.
func (s *Store) sumUp(ctx context.Context, q Queries, run int64, legs []Leg) (map[int]curve.Summary, error) {
	newest := legs[len(legs)-1]
	// Only readings of the newest leg go simply behind what is counted, and only if it cuts nothing off.
	behind, last := newest.Summarised > 0, int64(0)
	for _, l := range legs[:len(legs)-1] {
		last = max(last, l.LastStep)
		if l.Summarised != l.Batches {
			return s.sumAnew(ctx, q, run, legs)
		}
	}
	if !behind && len(legs) > 1 && newest.FromStep <= last {
		return s.sumAnew(ctx, q, run, legs)
	}
	rows, err := list[journalRow](ctx, q, "journal_read", A{"run": run, "leg": newest.Number, "batch": newest.Summarised, "from": 0, "to": int64(everyStep)})
	if err != nil {
		return nil, err
	}
	for len(rows) > 0 && rows[len(rows)-1].Batch > newest.Batches { // what arrived since the legs were read has its turn next time
		rows = rows[:len(rows)-1]
	}
	fresh, err := unpack(rows, func(int) int { return 0 }, func(int) bool { return true })
	if err != nil {
		return nil, err
	}
	known, err := q.Summaries(ctx, []int64{run}, "")
	if err != nil {
		return nil, err
	}
	sums := map[int]curve.Summary{}
	for _, k := range known {
		if _, touched := fresh[k.Curve]; touched {
			sums[k.Curve] = k.Core()
		}
	}
	for id, parts := range fresh {
		sum, ok := sums[id]
		if !ok {
			sum = curve.NewSummary()
		}
		for _, p := range parts {
			for i, v := range p.values {
				sum.Add(curve.Reading{Point: p.points[i], Value: v})
			}
		}
		sums[id] = sum
	}
	return sums, nil
}

// sumAnew counts all readings of a run. O(its readings).
func (s *Store) sumAnew(ctx context.Context, q Queries, run int64, legs []Leg) (map[int]curve.Summary, error) {
	if _, err := q.exec(ctx, "journal_lock", nil); err != nil { // what is sealed meanwhile is still found in one place or the other
		return nil, err
	}
	if _, err := q.exec(ctx, "seal_lock", A{"run": run}); err != nil {
		return nil, err
	}
	if _, err := q.exec(ctx, "summary_clear", A{"run": run}); err != nil {
		return nil, err
	}
	l := &look{Queries: q, run: run, pages: func(_ context.Context, do func(q Queries) error) error { return do(q) }}
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
	err = l.scan(ctx, store.Span{Run: run, To: everyStep}, sealed, func(name string, points []curve.Point, values []float64) error {
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

func (q Queries) setSummaries(ctx context.Context, run int64, sums map[int]curve.Summary) error {
	if len(sums) == 0 {
		return nil
	}
	ids := make([]int, 0, len(sums))
	for id := range sums {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	n := len(ids)
	counts, nans, infinites, everies, sketches := make([]int64, n), make([]int64, n), make([]int64, n), make([]int64, n), make([][]byte, n)
	last, low, high := newReadings(n), newReadings(n), newReadings(n)
	for i, id := range ids {
		s := sums[id]
		counts[i], nans[i], infinites[i], everies[i] = s.Count, s.NaN, s.Infinite, s.Sketch.Every
		sketches[i] = curve.AppendValues(nil, s.Sketch.Values)
		last.set(i, s.Last)
		low.set(i, s.Lowest)
		high.set(i, s.Highest)
	}
	_, err := q.exec(ctx, "summary_set", A{"run": run, "curves": ids, "counts": counts, "nans": nans, "infinites": infinites,
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
