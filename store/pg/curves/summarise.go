package curves

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// summaryRuns is how many runs are brought up to date in one transaction, and summaryRows how many batches of theirs
// are read at most.
const (
	summaryRuns = 64
	summaryRows = 4000
)

// Summarise brings the summaries and the best of runs with new batches up to date, many runs at a time, and returns
// those runs. Several replicas may do it at once: each run is done by one of them. A run that fails is left for the
// next time and does not keep the others from theirs.
func (s *Store) Summarise(ctx context.Context) ([]store.Summarised, error) {
	todo, err := db.Values[int64](ctx, s.q, "unsummarised", db.A{})
	if err != nil {
		return nil, err
	}
	var done []store.Summarised
	var failed error
	for group := range slices.Chunk(todo, summaryRuns) {
		some, err := s.summariseGroup(ctx, group)
		if err != nil && !db.Away(err) && ctx.Err() == nil && len(group) > 1 {
			err = nil
			for _, run := range group { // one of them may be the reason
				one, alone := s.summariseGroup(ctx, []int64{run})
				some, err = append(some, one...), errors.Join(err, alone)
			}
		}
		done, failed = append(done, some...), errors.Join(failed, err)
		if err != nil && (db.Away(err) || ctx.Err() != nil) {
			return done, failed
		}
	}
	return done, errors.Join(failed, s.writeBehind(ctx, nil, writeTime))
}

// writeTime is how long writing rows may take before new readings have their turn again.
const writeTime = 200 * time.Millisecond

// summaryWait is how long whoever asks for one run's summaries waits for another replica that is at them.
const summaryWait = 2 * time.Second

// SummariseRun does it for one run, waiting for a moment where another replica is at it; false where nothing was left
// to do or that replica is not done yet.
func (s *Store) SummariseRun(ctx context.Context, run int64) (mine bool, err error) {
	until := time.Now().Add(summaryWait)
	done, err := s.summariseGroup(ctx, []int64{run})
	for err == nil && len(done) == 0 && time.Now().Before(until) {
		behind, failed := db.Value[bool](ctx, s.q, "is_unsummarised", db.A{"run": run})
		if failed != nil || !behind {
			err = failed
			break
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
		done, err = s.summariseGroup(ctx, []int64{run})
	}
	if err == nil {
		err = s.writeBehind(ctx, []int64{run}, 0)
	}
	return len(done) > 0, err
}

// summaryLeg is what summarising needs to know of a leg.
type summaryLeg struct {
	Run                 int64
	Number              int
	FromStep, LastStep  int64
	Batches, Summarised int64
}

func (s *Store) summariseGroup(ctx context.Context, runs []int64) (done []store.Summarised, err error) {
	var anew []int64
	err = s.inTx(ctx, func(q Queries) error {
		done, anew, err = q.summarise(ctx, runs)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("summarise %d runs: %w", len(runs), err)
	}
	for _, run := range anew {
		batches, err := s.summariseAnew(ctx, run)
		if err != nil {
			return done, fmt.Errorf("summarise run %d: %w", run, err)
		}
		if batches > 0 {
			done = append(done, store.Summarised{Run: run, Batches: batches, Before: -1})
		}
	}
	return done, nil
}

// summarise brings those runs up to date that no other replica is at and whose new readings go simply behind those that
// are counted; anew are the others.
func (q Queries) summarise(ctx context.Context, runs []int64) (done []store.Summarised, anew []int64, err error) {
	mine, err := db.Values[int64](ctx, q, "summary_locks", db.A{"runs": runs})
	if err != nil || len(mine) == 0 {
		return nil, nil, err
	}
	legs, err := db.List[summaryLeg](ctx, q, "summary_legs", db.A{"runs": mine})
	if err != nil {
		return nil, nil, err
	}
	byRun := map[int64][]summaryLeg{}
	for _, l := range legs {
		byRun[l.Run] = append(byRun[l.Run], l)
	}
	var behind []int64
	var numbers []int
	var from, upto []int64
	for _, run := range mine {
		legs := byRun[run]
		switch {
		case len(legs) == 0:
		case goesBehind(legs):
			newest := legs[len(legs)-1]
			behind, numbers = append(behind, run), append(numbers, newest.Number)
			from, upto = append(from, newest.Summarised), append(upto, newest.Batches)
		default:
			anew = append(anew, run)
		}
	}
	if len(behind) == 0 {
		return nil, anew, nil
	}
	rows, err := db.List[newRow](ctx, q, "journal_new", db.A{"runs": behind, "legs": numbers, "from": from,
		"upto": upto, "limit": summaryRows})
	if err != nil {
		return nil, nil, err
	}
	if len(rows) == summaryRows { // the rest has its turn next time
		last := rows[len(rows)-1]
		for i, run := range behind {
			if run == last.Run {
				upto[i] = last.Batch
			} else if run > last.Run {
				upto[i] = from[i]
			}
		}
	}
	fresh := map[int64]map[int][]part{}
	for at := 0; at < len(rows); {
		run, to := rows[at].Run, at
		var own []journalRow
		for ; to < len(rows) && rows[to].Run == run; to++ {
			own = append(own, rows[to].journalRow)
		}
		if fresh[run], err = unpack(own, func(int) int { return 0 }, func(int) bool { return true }); err != nil {
			return nil, nil, fmt.Errorf("curves of run %d: %w", run, err)
		}
		at = to
	}
	drawn, err := q.drawnCurves(ctx, behind)
	if err != nil {
		return nil, nil, err
	}
	if err := q.addFresh(ctx, fresh, drawn); err != nil {
		return nil, nil, err
	}
	if _, err := q.Exec(ctx, "summarised_upto", db.A{"runs": behind, "legs": numbers, "batches": upto}); err != nil {
		return nil, nil, err
	}
	for i, run := range behind {
		d := store.Summarised{Run: run, Objective: stretches(fresh[run][drawn[run].Curve]),
			Train: stretches(fresh[run][drawn[run].Train])}
		for _, l := range byRun[run] {
			d.Before += l.Summarised
		}
		d.Batches = d.Before + upto[i] - from[i]
		done = append(done, d)
	}
	return done, anew, nil
}

func stretches(parts []part) (out []store.Stretch) {
	for _, p := range parts {
		out = append(out, store.Stretch{Points: p.points, Values: p.values})
	}
	return out
}

type newRow struct {
	Run int64
	journalRow
}

// goesBehind reports whether a run's new readings are of its newest leg only, and that cuts nothing off.
func goesBehind(legs []summaryLeg) bool {
	newest, last := legs[len(legs)-1], int64(0)
	for _, l := range legs[:len(legs)-1] {
		if l.Summarised != l.Batches {
			return false
		}
		last = max(last, l.LastStep)
	}
	return newest.Summarised > 0 || len(legs) == 1 || newest.FromStep > last
}

// drawn is the curve of a run that lists draw, that of its project's objective, and whether the lower is the better.
// Only of it a sketch is kept. Train is the same measure in training, by which it is judged. 0: there is none.
type drawn struct {
	Run          int64
	Curve, Train int
	Lower        bool
}

func (q Queries) drawnCurves(ctx context.Context, runs []int64) (map[int64]drawn, error) {
	rows, err := db.List[drawn](ctx, q, "drawn_curves", db.A{"runs": runs})
	out := make(map[int64]drawn, len(rows))
	for _, r := range rows {
		out[r.Run] = r
	}
	return out, err
}

type packedSummaries struct {
	Run     int64
	Payload []byte
}

// addFresh counts new readings, by run and curve, into the runs' summaries, and keeps their bests.
func (q Queries) addFresh(ctx context.Context, fresh map[int64]map[int][]part, drawn map[int64]drawn) error {
	runs := slices.Sorted(maps.Keys(fresh))
	if len(runs) == 0 {
		return nil
	}
	rows, err := db.List[packedSummaries](ctx, q, "run_summaries", db.A{"runs": runs})
	if err != nil {
		return err
	}
	known := make(map[int64][]curve.Numbered, len(runs))
	for _, r := range rows {
		if known[r.Run], err = curve.DecodeSummaries(r.Payload); err != nil {
			return fmt.Errorf("summaries of run %d: %w", r.Run, err)
		}
	}
	if len(rows) < len(runs) { // of a version that had a row for each curve only
		var before []int64
		for _, run := range runs {
			if _, ok := known[run]; !ok {
				before = append(before, run)
			}
		}
		sums, err := db.List[store.Summary](ctx, q, "summaries", db.A{"runs": before})
		if err != nil {
			return err
		}
		for _, s := range sums {
			known[s.Run] = append(known[s.Run], curve.Numbered{Curve: s.Curve, Summary: s.Core()})
		}
	}
	all := make(map[int64][]curve.Numbered, len(runs))
	for _, run := range runs {
		all[run] = addParts(known[run], fresh[run], drawn[run].Curve)
	}
	return q.keepSummaries(ctx, all, drawn)
}

// addParts counts new readings into the summaries of a run's curves.
func addParts(known []curve.Numbered, fresh map[int][]part, drawn int) []curve.Numbered {
	at := make(map[int]int, len(known))
	for i, s := range known {
		at[s.Curve] = i
	}
	for _, id := range slices.Sorted(maps.Keys(fresh)) {
		i, ok := at[id]
		if !ok {
			i = len(known)
			known = append(known, curve.Numbered{Curve: id, Summary: curve.NewSummary()})
		}
		s := &known[i]
		if id != drawn {
			s.Sketch = curve.Sketch{Every: curve.NoSketch}
		}
		for _, p := range fresh[id] {
			for k, v := range p.values {
				s.Add(curve.Reading{Point: p.points[k], Value: v})
			}
		}
	}
	return known
}

// keepSummaries keeps the summaries of runs whole, and their bests; the rows of their curves are still to be written.
func (q Queries) keepSummaries(ctx context.Context, all map[int64][]curve.Numbered, drawn map[int64]drawn) error {
	runs := slices.Sorted(maps.Keys(all))
	payloads, bests := make([][]byte, len(runs)), make([]*float64, len(runs))
	for i, run := range runs {
		payloads[i] = curve.AppendSummaries(nil, all[run])
		for _, s := range all[run] {
			if d := drawn[run]; d.Curve != 0 && s.Curve == d.Curve {
				best := s.Highest.Value
				if d.Lower {
					best = s.Lowest.Value
				}
				if !math.IsNaN(best) {
					bests[i] = &best
				}
			}
		}
	}
	if _, err := q.Exec(ctx, "run_summaries_set", db.A{"runs": runs, "payloads": payloads}); err != nil {
		return err
	}
	_, err := q.Exec(ctx, "bests_set", db.A{"runs": runs, "bests": bests})
	return err
}

// SetSketch keeps a sketch of a curve that has none.
func (s *Store) SetSketch(ctx context.Context, run int64, id int, sketch curve.Sketch) error {
	return s.inTx(ctx, func(q Queries) error {
		mine, err := db.Values[int64](ctx, q, "summary_locks", db.A{"runs": []int64{run}})
		if err != nil || len(mine) == 0 {
			return err // it is drawn the next time
		}
		rows, err := db.List[packedSummaries](ctx, q, "run_summaries", db.A{"runs": mine})
		if err != nil {
			return err
		}
		if len(rows) == 0 { // of a version that had a row for each curve only
			_, err := q.Exec(ctx, "sketch_set", db.A{"run": run, "curve": id, "every": sketch.Every,
				"sketch": curve.AppendValues(nil, sketch.Values)})
			return err
		}
		all, err := curve.DecodeSummaries(rows[0].Payload)
		if err != nil {
			return err
		}
		for i := range all {
			if all[i].Curve == id && all[i].Sketch.Every == curve.NoSketch {
				sketch.Seen = all[i].Count
				all[i].Sketch = sketch
			}
		}
		_, err = q.Exec(ctx, "run_summaries_set",
			db.A{"runs": mine, "payloads": [][]byte{curve.AppendSummaries(nil, all)}})
		return err
	})
}
