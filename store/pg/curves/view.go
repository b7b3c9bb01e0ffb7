package curves

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sort"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// View implements store.Readings. It reads the coarsest level of folds that gives at least four a pixel, and only where
// those do not fit the pixels or the window's ends the finer ones, down to single readings.
func (s *Store) View(ctx context.Context, span store.Span, w curve.Window,
	smoothing curve.Smoothing) (map[string]store.Folded, error) {
	out := map[string]store.Folded{}
	err := s.look(ctx, store.Span{Run: span.Run, Names: span.Names, Leg: span.Leg, To: everyStep}, func(l *look) error {
		v := &view{look: l, window: w, smoothing: smoothing, read: w.Before(smoothing), pieces: map[int][]piece{},
			axes: axes{run: l.run, index: l.index}}
		if err := v.steps(ctx); err != nil {
			return err
		}
		if v.from <= v.to {
			if err := v.descend(ctx); err != nil {
				return err
			}
		}
		for _, id := range l.curves {
			if r := v.reduce(id); len(r.Folds) > 0 {
				out[l.names[id]] = store.Folded{Folds: r.Folds, Smooth: r.Smooth}
			}
		}
		return nil
	})
	return out, err
}

type view struct {
	*look
	window    curve.Window
	smoothing curve.Smoothing
	read      curve.Window    // with what smoothing needs before it
	from, to  int64           // steps of what is sealed
	perPixel  float64         // readings of a curve, if they stand evenly
	pieces    map[int][]piece // by curve
	axes      axes
}

// piece is what was read of one curve and leg from one reading on: folds, or single readings.
type piece struct {
	part
	start  int64
	before curve.Point // behind which the folds' first readings stand
	folds  []curve.Fold
}

// gap is a stretch of readings, by their number on one curve and leg, that waits for a finer level.
type gap struct {
	curve, leg int // the leg's number
	from, to   int64
}

// smallShare is the part of a pixel's readings that may be counted to its neighbour where many readings have the same
// whole epoch: a sixteenth.
const smallShare = 16

const noEnd = math.MaxInt32 * curve.MaxBlock // reading numbers; block numbers are int4

// steps finds which steps of the sealed part the window may hold.
func (v *view) steps(ctx context.Context) error {
	v.from, v.to = 0, everyStep
	w := v.read
	if w.By == curve.ByStep {
		v.from, v.to = toStep(math.Floor(w.From)), toStep(math.Ceil(w.To))
		return nil
	}
	if math.IsInf(w.From, -1) && math.IsInf(w.To, 1) {
		return nil
	}
	covered, err := db.One[struct{ First, Last int64 }](ctx, v.Queries, "axis_steps",
		db.A{"run": v.run, "epochs": w.By == curve.ByEpoch, "from": w.From, "to": w.To})
	v.from, v.to = covered.First, covered.Last
	return err
}

func toStep(x float64) int64 {
	switch {
	case x >= math.MaxInt64:
		return everyStep
	case x <= 0:
		return 0
	}
	return int64(x)
}

// level is the coarsest one that gives four folds a pixel if readings stand evenly, or that is fine enough for what
// smoothing needs before the window.
func (v *view) level(ctx context.Context) (int, error) {
	w := v.window
	if w.Width == 0 {
		return 0, nil
	}
	most := int64(0)
	sums, err := v.Summaries(ctx, []int64{v.run}, "")
	if err != nil {
		return 0, err
	}
	for _, s := range sums {
		if _, wanted := v.names[s.Curve]; wanted {
			most = max(most, s.Count)
		}
	}
	extent, err := db.One[struct{ From, To float64 }](ctx, v.Queries, "extent", db.A{"run": v.run, "by": string(w.By)})
	if err != nil {
		return 0, err
	}
	perReading := (extent.To - extent.From) / float64(max(1, most)) // of the axis
	v.perPixel = w.Width / perReading
	wanted := w.Width / 4
	if v.smoothing.Memory() > 0 {
		wanted = max(wanted, v.smoothing.Grain())
	}
	for level := curve.MaxLevel; level > 0; level-- {
		if perReading*float64(curve.FoldSize(level)) <= wanted {
			return level, nil
		}
	}
	return 0, nil
}

func (v *view) descend(ctx context.Context) error {
	var gaps []gap
	for _, id := range v.curves {
		for _, leg := range v.legs {
			if leg.Sealed > 0 {
				gaps = append(gaps, gap{curve: id, leg: leg.Number, to: noEnd})
			}
		}
	}
	if len(gaps) == 0 { // all of it is in the journal
		return nil
	}
	level, err := v.level(ctx)
	if err != nil {
		return err
	}
	for ; level > 0 && len(gaps) > 0; level-- {
		if gaps, err = v.folds(ctx, level, gaps); err != nil {
			return err
		}
	}
	return v.readings(ctx, gaps)
}

// arguments asks for the rows, of so many readings each, that hold gaps.
func (v *view) arguments(gaps []gap, size int64) db.A {
	n := len(gaps)
	curves, legs, firsts, lasts := make([]int, n), make([]int, n), make([]int64, n), make([]int64, n)
	for i, g := range gaps {
		curves[i], legs[i], firsts[i], lasts[i] = g.curve, g.leg, g.from/size, min((g.to-1)/size, math.MaxInt32)
	}
	return db.A{"run": v.run, "curves": curves, "legs": legs, "firsts": firsts, "lasts": lasts,
		"from": v.from, "to": v.to}
}

type foldRow struct {
	Curve, Leg, Seq int
	Payload         []byte
}

// folds reads gaps at a level and returns what has to be read at the next finer one.
func (v *view) folds(ctx context.Context, level int, gaps []gap) ([]gap, error) {
	size := curve.FoldSize(level)
	perRow, query := size*curve.FoldsPerRow, "fold_parts"
	if level == 1 {
		perRow, query = curve.MaxBlock, "block_folds"
	}
	a := v.arguments(gaps, perRow)
	if level > 1 {
		a["level"] = level
	}
	rows, err := db.List[foldRow](ctx, v.Queries, query, a)
	if err != nil {
		return nil, err
	}
	type key struct{ curve, leg int }
	at := map[key][]foldRow{}
	for _, r := range rows {
		at[key{r.Curve, r.Leg}] = append(at[key{r.Curve, r.Leg}], r)
	}
	for k, found := range at { // a row that several gaps lie in comes for each of them
		slices.SortFunc(found, func(a, b foldRow) int { return a.Seq - b.Seq })
		at[k] = slices.CompactFunc(found, func(a, b foldRow) bool { return a.Seq == b.Seq })
	}
	var finer []gap
	for _, g := range gaps {
		rest := g.from // nothing before is still wanted of this gap
		found := at[key{g.curve, g.leg}]
		for _, row := range found {
			start := int64(row.Seq) * perRow
			if start >= g.to || start+perRow <= g.from {
				continue
			}
			if row.Payload == nil { // a block too short to have folds
				finer = append(finer, gap{g.curve, g.leg, max(start, g.from), min(start+perRow, g.to)})
				rest = start + perRow
				continue
			}
			first, folds, err := curve.DecodeFolds(row.Payload)
			if err != nil {
				return nil, fmt.Errorf("folds %d of level %d of curve %d of leg %d of run %d: %w", row.Seq, level,
					row.Curve, row.Leg, v.run, err)
			}
			finer = v.take(g, level, start, first, folds, finer)
			rest = start + int64(len(folds))*size
		}
		// Where a level ends, the finer ones go on; a block's folds cover all of it.
		if rest < g.to && level > 1 {
			finer = append(finer, gap{g.curve, g.leg, rest, g.to})
		}
	}
	return finer, nil
}

// take keeps the folds of a row that lie in a gap and fit the window; what does not fit is added to finer.
func (v *view) take(g gap, level int, start int64, first curve.Point, folds []curve.Fold, finer []gap) []gap {
	size, leg := curve.FoldSize(level), v.index[g.leg]
	end := v.ends[leg]
	var kept []curve.Fold
	keptFrom, keptBefore := start, first
	small := v.window.By == curve.ByEpoch && float64(size*smallShare) <= v.perPixel
	flush := func() {
		if len(kept) > 0 {
			v.pieces[g.curve] = append(v.pieces[g.curve], piece{part: part{leg: leg}, start: keptFrom,
				before: keptBefore, folds: kept})
			kept = nil
		}
	}
	for i, f := range folds {
		from := start + int64(i)*size
		before := first
		first = f.Last.Point
		if from < g.from || from >= g.to || v.read.Misses(before, f.Last.Point) || before.Step >= end {
			flush()
			continue
		}
		if f.Last.Step < end && v.window.Fits(before, f.Last.Point, small, v.smoothing) {
			if kept == nil {
				keptFrom, keptBefore = from, before
			}
			kept = append(kept, f)
			continue
		}
		flush()
		if n := len(finer); n > 0 && finer[n-1].curve == g.curve && finer[n-1].leg == g.leg && finer[n-1].to == from {
			finer[n-1].to = from + size
		} else {
			finer = append(finer, gap{g.curve, g.leg, from, from + size})
		}
	}
	flush()
	return finer
}

// readings reads gaps reading by reading.
func (v *view) readings(ctx context.Context, gaps []gap) error {
	if len(gaps) == 0 {
		return nil
	}
	a := v.arguments(gaps, curve.MaxBlock)
	rows, err := db.List[blockRow](ctx, v.Queries, "block_parts", a)
	if err != nil {
		return err
	}
	parts, err := v.axes.parts(ctx, v.Queries, rows)
	if err != nil {
		return err
	}
	type key struct{ curve, leg, seq int }
	blocks := map[key]part{}
	for i, r := range rows {
		blocks[key{r.Curve, r.Leg, r.Seq}] = parts[i]
	}
	type span struct{ curve, leg int }
	wanted := map[span][]gap{}
	for _, g := range gaps {
		wanted[span{g.curve, g.leg}] = append(wanted[span{g.curve, g.leg}], g)
	}
	for k, p := range blocks {
		start := int64(k.seq) * curve.MaxBlock
		for _, g := range wanted[span{k.curve, k.leg}] {
			a, b := max(g.from-start, 0), min(g.to-start, int64(len(p.values)))
			if a < b {
				v.pieces[k.curve] = append(v.pieces[k.curve],
					piece{start: start + a, part: part{leg: p.leg, points: p.points[a:b], values: p.values[a:b]}})
			}
		}
	}
	return nil
}

// reduce puts what was read of a curve in order, the journal behind the blocks of each leg, and folds it by pixels.
func (v *view) reduce(id int) curve.Reducer {
	pieces := v.pieces[id]
	for _, p := range v.fresh[id] {
		pieces = append(pieces, piece{part: p, start: noEnd})
	}
	sort.SliceStable(pieces, func(i, k int) bool {
		a, b := pieces[i], pieces[k]
		return a.leg < b.leg || a.leg == b.leg && a.start < b.start
	})
	r := curve.Reducer{Window: v.window}
	if !v.smoothing.None() {
		r.Smoother = v.smoothing.Smoother()
	}
	for _, p := range pieces {
		before := p.before
		for _, f := range p.folds {
			r.Fold(before, f)
			before = f.Last.Point
		}
		cut := p.part.clip(0, v.ends[p.leg]-1)
		r.Readings(cut.points, cut.values)
	}
	return r
}

// Extent implements store.Readings, from the legs and summaries: O(curves of the run).
func (s *Store) Extent(ctx context.Context, run int64, by curve.By) (from, to float64, ok bool, err error) {
	e, err := db.One[struct{ From, To float64 }](ctx, s.q, "extent", db.A{"run": run, "by": string(by)})
	return e.From, e.To, err == nil && e.From <= e.To, err
}
