package pg

import (
	"context"
	"fmt"
	"slices"
	"sort"

	"github.com/jackc/pgx/v5"

	"kembrel/core/curve"
	"kembrel/store"
)

var _ store.Readings = (*Store)(nil)

// look is one consistent look at the curves of a run: what is sealed and what is in the journal, as of one moment.
type look struct {
	Queries
	run    int64
	legs   []Leg
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
	return pgx.BeginTxFunc(ctx, s.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		l := &look{Queries: Queries{db: tx, text: s.text}, run: span.Run}
		if _, err := l.exec(ctx, "journal_lock", nil); err != nil {
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
	rows, err := list[journalRow](ctx, l.Queries, "journal_read", A{"run": l.run, "leg": 0, "batch": 0, "from": span.From, "to": span.To})
	if err != nil {
		return err
	}
	rows = slices.DeleteFunc(rows, func(r journalRow) bool { return r.Batch > l.legs[l.index[r.Leg]].Batches }) // came since
	l.fresh, err = unpack(rows, func(leg int) int { return l.index[leg] }, func(id int) bool { _, ok := l.names[id]; return ok })
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

// unpack sorts journal rows, in the order of legs and batches, into parts per curve; parts of one leg stay in their order.
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
	l     *look
	known map[[2]int][]curve.Point
}

func (a *axes) read(ctx context.Context, blocks []blockRow) error {
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
	rows, err := list[struct {
		Leg, ID int
		Payload []byte
	}](ctx, a.l.Queries, "axis_read", A{"run": a.l.run, "legs": legs, "ids": ids})
	if err != nil {
		return err
	}
	for _, r := range rows {
		points, err := curve.DecodeAxis(r.Payload)
		if err != nil {
			return fmt.Errorf("axis %d of leg %d of run %d: %w", r.ID, r.Leg, a.l.run, err)
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
		return part{}, fmt.Errorf("block %d of curve %d of leg %d of run %d: %w", b.Seq, b.Curve, b.Leg, a.l.run, err)
	}
	return part{leg: a.l.index[b.Leg], points: points, values: values}, nil
}

// scanBlocks is how many blocks are held at once while scanning.
const scanBlocks = 64

// Scan implements store.Readings. O(readings in the span); memory for 64 blocks and the run's journal.
func (s *Store) Scan(ctx context.Context, span store.Span, do func(string, []curve.Point, []float64) error) error {
	if span.To == 0 {
		span.To = everyStep
	}
	return s.look(ctx, span, func(l *look) error { return l.scan(ctx, span, do) })
}

func (l *look) scan(ctx context.Context, span store.Span, do func(string, []curve.Point, []float64) error) error {
	axes := &axes{l: l}
	for _, id := range l.curves {
		fresh := l.fresh[id]
		give := func(p part) error {
			if p = p.clip(span.From, min(span.To, l.ends[p.leg]-1)); len(p.values) == 0 {
				return nil
			}
			return do(l.names[id], p.points, p.values)
		}
		// What the journal holds of a leg comes after its blocks and before the next leg.
		freshBefore := func(leg int) error {
			for len(fresh) > 0 && fresh[0].leg < leg {
				if err := give(fresh[0]); err != nil {
					return err
				}
				fresh = fresh[1:]
			}
			return nil
		}
		leg, seq := 0, 0
		for {
			rows, err := list[blockRow](ctx, l.Queries, "block_read", A{"run": l.run, "curves": []int{id}, "leg": leg, "seq": seq,
				"from": span.From, "to": span.To, "limit": scanBlocks})
			if err != nil {
				return err
			}
			if err := axes.read(ctx, rows); err != nil {
				return err
			}
			for _, row := range rows {
				p, err := axes.part(row)
				if err != nil {
					return err
				}
				if err := freshBefore(p.leg); err != nil {
					return err
				}
				if err := give(p); err != nil {
					return err
				}
			}
			if len(rows) < scanBlocks {
				break
			}
			leg, seq = rows[len(rows)-1].Leg, rows[len(rows)-1].Seq+1
		}
		if err := freshBefore(len(l.legs)); err != nil {
			return err
		}
	}
	return nil
}
