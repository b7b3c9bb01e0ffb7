package curves

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/db"
)

var _ store.Readings = (*Store)(nil)

// look is one consistent look at the curves of a run: what is sealed and what is in the journal, as of one moment.
type look struct {
	Queries
	// in what scan reads blocks: a transaction for each page, or one for all
	pages  func(ctx context.Context, do func(q Queries) error) error
	run    int64
	legs   []store.Leg
	ends   []int64        // by index of legs: the step at which the leg ends to count
	index  map[int]int    // leg number: index
	curves []int          // wanted, by name
	names  map[int]string // of the wanted
	fresh  map[int][]part // journal, by curve
}

// part is a stretch of one curve on one leg, as the journal holds it.
type part struct {
	leg    int // index
	points []curve.Point
	values []float64
}

// look opens a look at a run's curves. The journal cannot be emptied while it lasts.
func (s *Store) look(ctx context.Context, span store.Span, do func(l *look) error) error {
	return s.db.Snapshot(ctx, func(q db.Q) error {
		l := &look{Queries: Queries{q}, run: span.Run}
		if err := l.LockJournal(ctx); err != nil {
			return err
		}
		if err := l.begin(ctx, span); err != nil {
			return err
		}
		return do(l)
	})
}

func (l *look) begin(ctx context.Context, span store.Span) (err error) {
	if l.legs, err = l.ListLegs(ctx, l.run); err != nil {
		return err
	}
	l.index = map[int]int{}
	starts := make([]int64, len(l.legs))
	for i, leg := range l.legs {
		l.index[leg.Number], starts[i] = i, leg.FromStep
	}
	l.ends = curve.Ends(starts)
	if span.Leg != 0 {
		for i, leg := range l.legs {
			if l.ends[i] = 0; leg.Number == span.Leg {
				l.ends[i] = everyStep
			}
		}
	}
	ids, _, err := l.knownCurves(ctx, l.run, nil)
	if err != nil {
		return err
	}
	l.names = map[int]string{}
	for name, id := range ids {
		if span.Names == nil || slices.Contains(span.Names, name) {
			l.names[id] = name
			l.curves = append(l.curves, id)
		}
	}
	sort.Slice(l.curves, func(i, k int) bool { return l.names[l.curves[i]] < l.names[l.curves[k]] })
	rows, err := db.List[journalRow](ctx, l.Queries, "journal_read",
		db.A{"run": l.run, "leg": 0, "batch": 0, "from": span.From, "to": span.To})
	if err != nil {
		return err
	}
	// came since
	rows = slices.DeleteFunc(rows, func(r journalRow) bool { return r.Batch > l.legs[l.index[r.Leg]].Batches })
	l.fresh, err = unpack(rows, func(leg int) int { return l.index[leg] },
		func(id int) bool { _, ok := l.names[id]; return ok })
	if err != nil {
		return fmt.Errorf("curves of run %d: %w", l.run, err)
	}
	return nil
}

type journalRow struct {
	Leg     int
	Batch   int64
	Payload []byte
}

// unpack sorts journal rows, in the order of legs and batches, into parts per curve; parts of one leg stay in their
// order.
func unpack(rows []journalRow, index func(leg int) int, wanted func(curve int) bool) (map[int][]part, error) {
	out := map[int][]part{}
	for _, row := range rows {
		batch, err := curve.DecodeJournal(row.Payload)
		if err != nil {
			return nil, fmt.Errorf("leg %d batch %d: %w", row.Leg, row.Batch, err)
		}
		for _, c := range batch.Columns {
			if len(c.Values) == 0 || !wanted(c.Curve) {
				continue
			}
			out[c.Curve] = append(out[c.Curve], part{leg: index(row.Leg), points: batch.Points(c), values: c.Values})
		}
	}
	return out, nil
}

// clip cuts a part to steps from..to, both included. Steps do not fall within a part.
func (p part) clip(from, to int64) part {
	a := sort.Search(len(p.points), func(i int) bool { return p.points[i].Step >= from })
	b := len(p.points)
	if to < everyStep {
		b = sort.Search(len(p.points), func(i int) bool { return p.points[i].Step > to })
	}
	if b <= a {
		return part{leg: p.leg}
	}
	return part{leg: p.leg, points: p.points[a:b], values: p.values[a:b]}
}

// axes reads the points of blocks, each axis once.
type axes struct {
	run   int64
	index map[int]int // leg number: index
	known map[[2]int][]curve.Point
}

// parts decodes blocks.
func (a *axes) parts(ctx context.Context, q Queries, blocks []blockRow) ([]part, error) {
	if err := a.read(ctx, q, blocks); err != nil {
		return nil, err
	}
	out := make([]part, len(blocks))
	for i, b := range blocks {
		p, err := a.part(b)
		if err != nil {
			return nil, err
		}
		out[i] = p
	}
	return out, nil
}

func (a *axes) read(ctx context.Context, q Queries, blocks []blockRow) error {
	var legs, ids []int
	if a.known == nil || len(a.known) > 256 { // blocks come in order, so what was read long ago is not wanted again
		a.known = map[[2]int][]curve.Point{}
	}
	asked := map[[2]int]bool{}
	for _, b := range blocks {
		key := [2]int{b.Leg, b.Axis}
		if _, ok := a.known[key]; !ok && !asked[key] {
			asked[key] = true
			legs, ids = append(legs, b.Leg), append(ids, b.Axis)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	rows, err := db.List[struct {
		Leg, ID int
		Payload []byte
	}](ctx, q, "axis_read", db.A{"run": a.run, "legs": legs, "ids": ids})
	if err != nil {
		return err
	}
	for _, r := range rows {
		points, err := curve.DecodeAxis(r.Payload)
		if err != nil {
			return fmt.Errorf("axis %d of leg %d of run %d: %w", r.ID, r.Leg, a.run, err)
		}
		a.known[[2]int{r.Leg, r.ID}] = points
	}
	return nil
}

type blockRow struct {
	Curve, Leg, Seq, Axis int
	Payload               []byte
}

// part decodes a block.
func (a *axes) part(b blockRow) (part, error) {
	values, err := curve.DecodeValues(b.Payload)
	points := a.known[[2]int{b.Leg, b.Axis}]
	if err == nil && len(points) != len(values) {
		err = fmt.Errorf("%w: %d points for %d values", curve.ErrPayload, len(points), len(values))
	}
	if err != nil {
		return part{}, fmt.Errorf("block %d of curve %d of leg %d of run %d: %w", b.Seq, b.Curve, b.Leg, a.run, err)
	}
	return part{leg: a.index[b.Leg], points: points, values: values}, nil
}

// scanBlocks is how many blocks are held at once while scanning.
const scanBlocks = 64

// Scan implements store.Readings. O(readings in the span); memory for 64 blocks and the run's journal. What is not
// sealed yet is read at the beginning, and how much is sealed of each curve; the blocks are read page by page as do
// takes them, with nothing held of the database between pages, so that do may be as slow as it likes. What comes in
// meanwhile is not given.
func (s *Store) Scan(ctx context.Context, span store.Span, do func(string, []curve.Point, []float64) error) error {
	if span.To == 0 {
		span.To = everyStep
	}
	var opened *look
	sealed := map[onLeg]int64{}
	err := s.look(ctx, span, func(l *look) (err error) {
		opened = l
		sealed, err = l.sealedReadings(ctx)
		return err
	})
	if err != nil {
		return err
	}
	opened.pages = s.snapshot
	return opened.scan(ctx, span, sealed, do)
}

// snapshot runs do in a transaction that only reads, as of one moment.
func (s *Store) snapshot(ctx context.Context, do func(q Queries) error) error {
	return s.db.Snapshot(ctx, func(q db.Q) error { return do(Queries{q}) })
}

type onLeg struct{ curve, leg int } // the leg's number

// sealedReadings is how many readings lie in blocks.
func (l *look) sealedReadings(ctx context.Context) (map[onLeg]int64, error) {
	numbers := make([]int, 0, len(l.legs))
	for _, leg := range l.legs {
		if leg.Sealed > 0 {
			numbers = append(numbers, leg.Number)
		}
	}
	rows, err := db.List[struct {
		Curve, Leg int
		N          int64
	}](ctx, l.Queries, "sealed_readings", db.A{"run": l.run, "curves": l.curves, "legs": numbers})
	out := make(map[onLeg]int64, len(rows))
	for _, r := range rows {
		out[onLeg{r.Curve, r.Leg}] = r.N
	}
	return out, err
}

func (l *look) scan(ctx context.Context, span store.Span, sealed map[onLeg]int64,
	do func(string, []curve.Point, []float64) error) error {
	axes := &axes{run: l.run, index: l.index}
	for _, id := range l.curves {
		fresh := l.fresh[id]
		give := func(p part) error {
			if p = p.clip(span.From, min(span.To, l.ends[p.leg]-1)); len(p.values) == 0 {
				return nil
			}
			return do(l.names[id], p.points, p.values)
		}
		// what the journal holds of a leg comes after its blocks and before the next leg
		for leg, known := range l.legs {
			if err := l.scanLeg(ctx, span, onLeg{id, known.Number}, sealed[onLeg{id, known.Number}], axes,
				give); err != nil {
				return err
			}
			for len(fresh) > 0 && fresh[0].leg == leg {
				if err := give(fresh[0]); err != nil {
					return err
				}
				fresh = fresh[1:]
			}
		}
	}
	return nil
}

// scanLeg gives the first n readings of a curve's blocks on one leg.
func (l *look) scanLeg(ctx context.Context, span store.Span, of onLeg, n int64, axes *axes,
	give func(part) error) error {
	seq := 0
	for int64(seq)*curve.MaxBlock < n {
		var parts []part
		var rows []blockRow
		err := l.pages(ctx, func(q Queries) (err error) {
			rows, err = db.List[blockRow](ctx, q, "block_read",
				db.A{"run": l.run, "curve": of.curve, "leg": of.leg, "seq": seq, "from": span.From, "to": span.To,
					"limit": scanBlocks})
			if err != nil {
				return err
			}
			parts, err = axes.parts(ctx, q, rows)
			return err
		})
		if err != nil {
			return err
		}
		for i, p := range parts {
			// the rest came since, or is fresh
			if left := n - int64(rows[i].Seq)*curve.MaxBlock; left < int64(len(p.values)) {
				p.points, p.values = p.points[:max(left, 0)], p.values[:max(left, 0)]
			}
			if err := give(p); err != nil {
				return err
			}
		}
		if len(rows) > 0 {
			seq = rows[len(rows)-1].Seq + 1
		}
		if len(rows) < scanBlocks {
			break
		}
	}
	if whole := span.From == 0 && span.To == everyStep; whole && int64(seq)*curve.MaxBlock < n {
		return fmt.Errorf("curve %d of leg %d of run %d: %w", of.curve, of.leg, l.run, errDeleted)
	}
	return nil
}

// errDeleted says that what was being read has been deleted meanwhile.
var errDeleted = errors.New("deleted while it was being read")
