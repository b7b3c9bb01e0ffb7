package pg

import (
	"context"
	"fmt"
	"sort"

	"kembrel/core/curve"
	"kembrel/store"
)

var _ store.Readings = (*Store)(nil)

type curveName struct {
	ID   int
	Name string
}

// CurveIDs returns the numbers of a run's curves by name, giving numbers to names that are new. In a transaction it holds the
// run while it does.
func (q Queries) CurveIDs(ctx context.Context, run int64, names []string) (map[string]int, error) {
	ids, missing, err := q.knownCurves(ctx, run, names)
	if err != nil || len(missing) == 0 {
		return ids, err
	}
	if err := q.LockRun(ctx, run); err != nil {
		return nil, err
	}
	if _, missing, err = q.knownCurves(ctx, run, names); err != nil {
		return nil, err
	}
	if len(missing) > 0 {
		if _, err := q.exec(ctx, "curve_add", A{"run": run, "names": missing}); err != nil {
			return nil, err
		}
	}
	ids, _, err = q.knownCurves(ctx, run, names)
	return ids, err
}

func (q Queries) knownCurves(ctx context.Context, run int64, names []string) (ids map[string]int, missing []string, err error) {
	known, err := list[curveName](ctx, q, "curve_list", A{"run": run})
	if err != nil {
		return nil, nil, err
	}
	ids = make(map[string]int, len(known))
	for _, c := range known {
		ids[c.Name] = c.ID
	}
	for _, n := range names {
		if _, ok := ids[n]; !ok {
			missing = append(missing, n)
		}
	}
	return ids, missing, nil
}

// AddJournal keeps the readings of one batch of a leg. The batch must have been counted in the same transaction.
func (q Queries) AddJournal(ctx context.Context, run int64, leg int, batch int64, b curve.Batch) error {
	_, err := q.exec(ctx, "journal_add", A{"run": run, "leg": leg, "batch": batch, "first_step": b.Axis[0].Step,
		"last_step": b.Axis[len(b.Axis)-1].Step, "payload": curve.AppendJournal(nil, b)})
	return err
}

type journalRow struct {
	Leg     int
	Batch   int64
	Payload []byte
}

// ReadCurves implements store.Readings on the journal. O(readings of the run in the span).
func (s *Store) ReadCurves(ctx context.Context, span store.Span) (store.Curves, error) {
	legs, err := s.ListLegs(ctx, span.Run)
	if err != nil {
		return store.Curves{}, err
	}
	whole := span.After == store.Position{}
	if n := len(legs); n > 0 && !whole && span.After.Leg != legs[n-1].Number {
		span.After, whole = store.Position{}, true // a leg began since, and may have cut into what was read
	}
	if span.To == 0 {
		span.To = everyStep
	}
	names, _, err := s.knownCurves(ctx, span.Run, nil)
	if err != nil {
		return store.Curves{}, err
	}
	rows, err := list[journalRow](ctx, s.Queries, "journal_read", A{"run": span.Run, "leg": span.After.Leg, "batch": span.After.Batch,
		"from": span.From, "to": span.To})
	if err != nil {
		return store.Curves{}, err
	}
	byID := map[int]string{}
	for name, id := range names {
		byID[id] = name
	}
	if span.Names != nil {
		byID = map[int]string{}
		for _, n := range span.Names {
			if id, ok := names[n]; ok {
				byID[id] = n
			}
		}
	}
	stretches, err := gather(legs, rows, func(id int) bool { _, ok := byID[id]; return ok }, span.From, span.To)
	if err != nil {
		return store.Curves{}, fmt.Errorf("curves of run %d: %w", span.Run, err)
	}
	out := store.Curves{Position: span.After, Whole: whole, ByName: map[string][]curve.Reading{}}
	if n := len(legs); n > 0 {
		out.Position.Leg = legs[n-1].Number
	}
	if n := len(rows); n > 0 && rows[n-1].Leg == out.Position.Leg {
		out.Position.Batch = rows[n-1].Batch
	}
	for id, s := range stretches {
		out.ByName[byID[id]] = curve.Join(s)
	}
	return out, nil
}

// gather sorts journal rows, in the order of legs and batches, into stretches per curve.
func gather(legs []Leg, rows []journalRow, wanted func(int) bool, from, to int64) (map[int][]curve.Stretch, error) {
	starts, index := make([]int64, len(legs)), map[int]int{}
	for i, l := range legs {
		starts[i], index[l.Number] = l.FromStep, i
	}
	out := map[int][]curve.Stretch{}
	for _, row := range rows {
		batch, err := curve.DecodeJournal(row.Payload)
		if err != nil {
			return nil, fmt.Errorf("leg %d batch %d: %w", row.Leg, row.Batch, err)
		}
		at := index[row.Leg]
		for _, c := range batch.Columns {
			if !wanted(c.Curve) {
				continue
			}
			if out[c.Curve] == nil {
				out[c.Curve] = make([]curve.Stretch, len(legs))
				for i := range legs {
					out[c.Curve][i].From = starts[i]
				}
			}
			s := &out[c.Curve][at]
			for _, r := range batch.Readings(c) {
				if r.Step >= from && r.Step <= to {
					s.Readings = append(s.Readings, r)
				}
			}
		}
	}
	return out, nil
}

// Summarise brings the summaries of runs with new batches up to date and returns those runs. Several replicas may do it at
// once: each run is done by one of them.
func (s *Store) Summarise(ctx context.Context) ([]int64, error) {
	todo, err := values[int64](ctx, s.Queries, "unsummarised", A{})
	if err != nil {
		return nil, err
	}
	var done []int64
	for _, run := range todo {
		err := s.InTx(ctx, func(q Queries) error {
			mine, err := value[bool](ctx, q, "summary_lock", A{"run": run})
			if err != nil || !mine {
				return err
			}
			done = append(done, run)
			return q.summariseRun(ctx, run)
		})
		if err != nil {
			return nil, fmt.Errorf("summarise run %d: %w", run, err)
		}
	}
	return done, nil
}

func (q Queries) summariseRun(ctx context.Context, run int64) error {
	legs, err := q.ListLegs(ctx, run)
	if err != nil || len(legs) == 0 {
		return err
	}
	newest := len(legs) - 1
	// Only the newest leg's readings go simply behind what is counted; a leg that cuts into earlier ones, or is cut, makes
	// everything to be counted anew.
	behind := legs[newest].Summarised > 0 || newest == 0
	for _, l := range legs[:newest] {
		behind = behind && l.Summarised == l.Batches
	}
	sums, after := map[int]curve.Summary{}, store.Position{}
	if behind {
		after = store.Position{Leg: legs[newest].Number, Batch: legs[newest].Summarised}
		known, err := q.Summaries(ctx, []int64{run}, "")
		if err != nil {
			return err
		}
		for _, k := range known {
			sums[k.Curve] = k.Core()
		}
	} else if _, err := q.exec(ctx, "summary_clear", A{"run": run}); err != nil {
		return err
	}
	all, err := list[journalRow](ctx, q, "journal_read", A{"run": run, "leg": after.Leg, "batch": after.Batch, "from": 0, "to": int64(everyStep)})
	if err != nil {
		return err
	}
	counted := map[int]int64{}
	for _, l := range legs {
		counted[l.Number] = l.Batches
	}
	rows := all[:0]
	for _, r := range all {
		if r.Batch <= counted[r.Leg] { // what arrived since the legs were read has its turn next time
			rows = append(rows, r)
		}
	}
	stretches, err := gather(legs, rows, func(int) bool { return true }, 0, everyStep)
	if err != nil {
		return err
	}
	ids := make([]int, 0, len(stretches))
	for id := range stretches {
		ids = append(ids, id)
	}
	sort.Ints(ids)
	for _, id := range ids {
		sum, ok := sums[id]
		if !ok {
			sum = curve.NewSummary()
		}
		for _, r := range curve.Join(stretches[id]) {
			sum.Add(r)
		}
		if sum.Count == 0 {
			continue // later legs replaced every reading of it
		}
		if err := q.setSummary(ctx, run, id, sum); err != nil {
			return err
		}
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
}

func (q Queries) setSummary(ctx context.Context, run int64, id int, s curve.Summary) error {
	_, err := q.exec(ctx, "summary_set", A{"run": run, "curve": id, "count": s.Count, "nan": s.NaN, "infinite": s.Infinite,
		"last_step": s.Last.Step, "last_epoch": s.Last.Epoch, "last_time": s.Last.Time, "last_value": s.Last.Value,
		"low_step": s.Lowest.Step, "low_epoch": s.Lowest.Epoch, "low_time": s.Lowest.Time, "low_value": s.Lowest.Value,
		"high_step": s.Highest.Step, "high_epoch": s.Highest.Epoch, "high_time": s.Highest.Time, "high_value": s.Highest.Value,
		"sketch_every": s.Sketch.Every, "sketch": s.Sketch.Values})
	return err
}
