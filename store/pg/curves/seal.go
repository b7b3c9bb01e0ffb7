package curves

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// volumes of the journal, as the migration made them.
const volumes = 4

// SealRule says when the journal turns to its next volume, so that the one before is sealed.
type SealRule struct {
	Age   time.Duration
	Bytes int64
}

// Seal turns the journal by the rule, seals what lies in the volumes before, and empties volumes that are sealed whole.
// It may be called by several replicas, stopped at any moment, and called again; readers see the same curves before,
// while and after. It returns how many readings it sealed.
func (s *Store) Seal(ctx context.Context, rule SealRule) (sealed int64, err error) {
	if err := s.turnJournal(ctx, rule); err != nil {
		return 0, fmt.Errorf("turn the journal: %w", err)
	}
	turn, err := db.One[turn](ctx, s.q, "turn", nil)
	if err != nil {
		return 0, err
	}
	legs, err := db.List[struct {
		Run  int64
		Leg  int
		Upto int64
	}](ctx, s.q, "volumes_unsealed", db.A{"volume": turn.Turn % volumes})
	if err != nil {
		return 0, err
	}
	var failed error
	for _, l := range legs {
		for {
			n, more, err := s.sealLeg(ctx, l.Run, l.Leg, l.Upto)
			sealed += n
			if err != nil {
				if ctx.Err() != nil || db.Away(err) {
					return sealed, err
				}
				// the others go on
				failed = errors.Join(failed, fmt.Errorf("seal leg %d of run %d: %w", l.Leg, l.Run, err))
			}
			if err != nil || !more {
				break
			}
		}
	}
	for volume := range int64(volumes) {
		if volume != turn.Turn%volumes {
			if err := s.emptyVolume(ctx, volume); err != nil {
				return sealed, fmt.Errorf("empty volume %d of the journal: %w", volume, err)
			}
		}
	}
	_, err = s.q.Exec(ctx, "leg_close", nil)
	return sealed, errors.Join(failed, err)
}

type turn struct {
	Turn  int64
	Age   float64 // seconds
	Bytes int64
}

func (s *Store) turnJournal(ctx context.Context, rule SealRule) error {
	now, err := db.One[turn](ctx, s.q, "turn", nil)
	if err != nil || now.Age < rule.Age.Seconds() && now.Bytes < rule.Bytes {
		return err
	}
	idle, err := db.Value[bool](ctx, s.q, "volume_empty", db.A{"volume": now.Turn % volumes})
	if err != nil || idle {
		return err
	}
	free, err := db.Value[bool](ctx, s.q, "volume_empty", db.A{"volume": (now.Turn + 1) % volumes})
	if err != nil || !free { // sealing is behind: the volume written grows meanwhile
		return err
	}
	_, err = s.q.Exec(ctx, "turn_next", db.A{"turn": now.Turn})
	return err
}

// emptyVolume empties a volume if all of it is sealed. Who reads holds the volume, so this gives up after a moment
// rather than make everybody wait in line behind it.
func (s *Store) emptyVolume(ctx context.Context, volume int64) error {
	empty, err := db.Value[bool](ctx, s.q, "volume_empty", db.A{"volume": volume})
	if err != nil || empty {
		return err
	}
	done, err := db.Value[bool](ctx, s.q, "volume_sealed", db.A{"volume": volume})
	if err != nil || !done {
		return err
	}
	err = s.inTx(ctx, func(q Queries) error {
		table := fmt.Sprintf("journal_%d", volume)
		if err := q.Run(ctx, "set local lock_timeout = '200ms'"); err != nil {
			return err
		}
		if err := q.Run(ctx, "lock table "+table+" in access exclusive mode"); err != nil {
			return err
		}
		// A batch that was under way when the journal turned may have come in since.
		if done, err := db.Value[bool](ctx, q, "volume_sealed", db.A{"volume": volume}); err != nil || !done {
			return err
		}
		return q.Run(ctx, "truncate "+table)
	})
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "55P03" { // lock not available; next time
		return nil
	}
	return err
}

// sealRows is how many batches are sealed in one transaction.
const sealRows = 2000

// sealLeg seals the next batches of a leg, at most up to a batch and to what is summarised.
func (s *Store) sealLeg(ctx context.Context, run int64, number int, upto int64) (sealed int64, more bool, err error) {
	err = s.inTx(ctx, func(q Queries) error {
		if err := q.LockSealing(ctx, run); err != nil {
			return err
		}
		leg, err := q.Leg(ctx, run, number)
		if errors.Is(err, store.ErrNone) {
			return nil
		}
		if err != nil {
			return err
		}
		upto := min(upto, leg.Summarised)
		if upto <= leg.Sealed {
			return nil
		}
		rows, err := db.List[journalRow](ctx, q, "seal_rows",
			db.A{"run": run, "leg": number, "sealed": leg.Sealed, "upto": upto, "limit": sealRows})
		if err != nil {
			return err
		}
		if len(rows) == sealRows {
			upto, more = rows[len(rows)-1].Batch, true
		}
		w := &sealing{Queries: q, run: run, leg: number}
		if sealed, err = w.seal(ctx, rows); err != nil {
			return err
		}
		_, err = q.Exec(ctx, "sealed", db.A{"run": run, "leg": number, "sealed": upto})
		return err
	})
	return sealed, more && err == nil, err
}

// sealing is the work on one leg in one transaction.
type sealing struct {
	Queries
	run     int64
	leg     int
	tails   map[int]tail // by curve
	nextID  int          // of an axis
	axes    axisRows
	blocks  blockRows
	full    map[int][]curve.Sealed
	unused  map[int]int // axis: blocks that no longer stand on it
	decoded map[int][]curve.Point
}

// tail is a curve's last block so far.
type tail struct {
	Curve, Seq, Axis, N int
	Payload             []byte
}

type axisRows struct {
	ids, uses                                    []int
	firstSteps, lastSteps, firstTimes, lastTimes []int64
	firstEpochs, lastEpochs                      []float64
	payloads                                     [][]byte
}

type blockRows struct {
	curves, seqs, axes, ns []int
	firstSteps, lastSteps  []int64
	payloads, folds        [][]byte
}

// family is a group of curves that go on from equal tails at the same points, and so share their axes.
type family struct {
	rows   []int32 // indices into the points of the batches
	seq    int
	axis   int // of the common tail, 0: none
	held   int // readings of the tail
	curves []int
}

func (w *sealing) seal(ctx context.Context, rows []journalRow) (int64, error) {
	points, at, values, err := gather(rows)
	if err != nil || len(values) == 0 {
		return 0, err
	}
	curves := make([]int, 0, len(values))
	for id := range values {
		curves = append(curves, id)
	}
	slices.Sort(curves)
	if err := w.readTails(ctx, curves); err != nil {
		return 0, err
	}
	w.full, w.unused = map[int][]curve.Sealed{}, map[int]int{}
	count := int64(0)
	for _, f := range w.families(curves, at) {
		if err := w.sealFamily(f, points, values); err != nil {
			return 0, err
		}
		count += int64(len(f.rows) * len(f.curves))
	}
	return count, w.write(ctx)
}

// gather brings journal rows into one axis, and for each curve the indices into it and the values.
func gather(rows []journalRow) (points []curve.Point, at map[int][]int32, values map[int][]float64, err error) {
	at, values = map[int][]int32{}, map[int][]float64{}
	for _, row := range rows {
		batch, err := curve.DecodeJournal(row.Payload)
		if err != nil {
			return nil, nil, nil, fmt.Errorf("batch %d: %w", row.Batch, err)
		}
		base := int32(len(points))
		points = append(points, batch.Axis...)
		for _, c := range batch.Columns {
			indices := at[c.Curve]
			for i := range c.Values {
				k := i
				if c.Rows != nil {
					k = c.Rows[i]
				}
				indices = append(indices, base+int32(k))
			}
			at[c.Curve], values[c.Curve] = indices, append(values[c.Curve], c.Values...)
		}
	}
	for id, v := range values {
		if len(v) == 0 {
			delete(values, id)
		}
	}
	return points, at, values, nil
}

func (w *sealing) readTails(ctx context.Context, curves []int) error {
	tails, err := db.List[tail](ctx, w.Queries, "seal_tails", db.A{"run": w.run, "leg": w.leg, "curves": curves})
	if err != nil {
		return err
	}
	w.tails, w.decoded = map[int]tail{}, map[int][]curve.Point{}
	var ids, legs []int
	for _, t := range tails {
		w.tails[t.Curve] = t
		if _, known := w.decoded[t.Axis]; t.Payload != nil && !known {
			w.decoded[t.Axis] = nil
			ids, legs = append(ids, t.Axis), append(legs, w.leg)
		}
	}
	rows, err := db.List[struct {
		Leg, ID int
		Payload []byte
	}](ctx, w.Queries, "axis_read", db.A{"run": w.run, "legs": legs, "ids": ids})
	if err != nil {
		return err
	}
	for _, r := range rows {
		if w.decoded[r.ID], err = curve.DecodeAxis(r.Payload); err != nil {
			return fmt.Errorf("axis %d: %w", r.ID, err)
		}
	}
	w.nextID, err = db.Value[int](ctx, w.Queries, "axis_last", db.A{"run": w.run, "leg": w.leg})
	return err
}

// families sorts curves by what they share.
func (w *sealing) families(curves []int, at map[int][]int32) []*family {
	type key struct {
		seq, axis int
		rows      uint64
	}
	seed := maphash.MakeSeed()
	known := map[key][]*family{}
	var out []*family
	for _, id := range curves {
		f := family{rows: at[id], curves: []int{id}}
		if t, ok := w.tails[id]; ok {
			if f.seq = t.Seq; t.Payload == nil {
				f.seq++ // the last block is full
			} else {
				f.axis, f.held = t.Axis, t.N
			}
		}
		var h maphash.Hash
		h.SetSeed(seed)
		for _, r := range f.rows {
			maphash.WriteComparable(&h, r)
		}
		k := key{f.seq, f.axis, h.Sum64()}
		i := slices.IndexFunc(known[k], func(o *family) bool { return slices.Equal(o.rows, f.rows) })
		if i >= 0 {
			known[k][i].curves = append(known[k][i].curves, id)
			continue
		}
		known[k] = append(known[k], &f)
		out = append(out, &f)
	}
	return out
}

func (w *sealing) sealFamily(f *family, points []curve.Point, values map[int][]float64) error {
	all := make([]curve.Point, 0, f.held+len(f.rows))
	if f.axis != 0 {
		all = append(all, w.decoded[f.axis]...)
		if len(all) != f.held {
			return fmt.Errorf("axis %d has %d points, the block on it %d readings", f.axis, len(all), f.held)
		}
		w.unused[f.axis] += len(f.curves)
	}
	for _, r := range f.rows {
		all = append(all, points[r])
	}
	firstAxis := 0
	for i, id := range f.curves {
		v := make([]float64, 0, len(all))
		if f.axis != 0 {
			held, err := curve.DecodeValues(w.tails[id].Payload)
			if err == nil && len(held) != f.held {
				err = fmt.Errorf("%w: %d values for %d points", curve.ErrPayload, len(held), f.held)
			}
			if err != nil {
				return fmt.Errorf("block %d of curve %d: %w", f.seq, id, err)
			}
			v = append(v, held...)
		}
		v = append(v, values[id]...)
		blocks := curve.Cut(f.seq, all, v)
		if i == 0 {
			firstAxis = w.nextID + 1
			for _, b := range blocks {
				w.addAxis(b, len(f.curves))
			}
		}
		for k, b := range blocks {
			w.addBlock(id, firstAxis+k, b)
		}
	}
	return nil
}

func (w *sealing) addAxis(b curve.Sealed, uses int) {
	w.nextID++
	a, first, last := &w.axes, b.First(), b.Last()
	a.ids, a.uses, a.payloads = append(a.ids, w.nextID), append(a.uses, uses),
		append(a.payloads, curve.AppendAxis(nil, b.Points))
	a.firstSteps, a.lastSteps = append(a.firstSteps, first.Step), append(a.lastSteps, last.Step)
	a.firstEpochs, a.lastEpochs = append(a.firstEpochs, first.Epoch), append(a.lastEpochs, last.Epoch)
	a.firstTimes, a.lastTimes = append(a.firstTimes, first.Time), append(a.lastTimes, last.Time)
}

func (w *sealing) addBlock(id, axis int, b curve.Sealed) {
	r := &w.blocks
	r.curves, r.seqs, r.axes, r.ns = append(r.curves, id), append(r.seqs, b.Seq), append(r.axes, axis),
		append(r.ns, len(b.Values))
	r.firstSteps, r.lastSteps = append(r.firstSteps, b.First().Step), append(r.lastSteps, b.Last().Step)
	r.payloads, r.folds = append(r.payloads, curve.AppendValues(nil, b.Values)), append(r.folds, b.Folds())
	if b.Full() {
		w.full[id] = append(w.full[id], b)
	}
}

func (w *sealing) write(ctx context.Context) error {
	a, b := w.axes, w.blocks
	leg := func(more db.A) db.A { more["run"], more["leg"] = w.run, w.leg; return more }
	if _, err := w.Exec(ctx, "axis_write",
		leg(db.A{"ids": a.ids, "uses": a.uses, "first_steps": a.firstSteps, "last_steps": a.lastSteps,
			"first_epochs": a.firstEpochs, "last_epochs": a.lastEpochs, "first_times": a.firstTimes,
			"last_times": a.lastTimes, "payloads": a.payloads})); err != nil {
		return err
	}
	if _, err := w.Exec(ctx, "block_write",
		leg(db.A{"curves": b.curves, "seqs": b.seqs, "axes": b.axes, "ns": b.ns, "first_steps": b.firstSteps,
			"last_steps": b.lastSteps, "payloads": b.payloads, "folds": b.folds})); err != nil {
		return err
	}
	if len(w.unused) > 0 {
		var ids, uses []int
		for id, n := range w.unused {
			ids, uses = append(ids, id), append(uses, n)
		}
		if _, err := w.Exec(ctx, "axis_unuse", leg(db.A{"ids": ids, "uses": uses})); err != nil {
			return err
		}
		if _, err := w.Exec(ctx, "axis_clear", leg(db.A{"ids": ids})); err != nil {
			return err
		}
	}
	return w.raise(ctx)
}

// raise brings the coarser levels up to date for curves with blocks that are full now.
func (w *sealing) raise(ctx context.Context) error {
	if len(w.full) == 0 {
		return nil
	}
	curves := make([]int, 0, len(w.full))
	for id := range w.full {
		curves = append(curves, id)
	}
	slices.Sort(curves)
	rows, err := db.List[struct {
		Curve, Level, Seq int
		Payload           []byte
	}](ctx, w.Queries, "fold_tails", db.A{"run": w.run, "leg": w.leg, "curves": curves})
	if err != nil {
		return err
	}
	tails := map[int]map[int]curve.FoldRow{}
	for _, r := range rows {
		first, folds, err := curve.DecodeFolds(r.Payload)
		if err != nil {
			return fmt.Errorf("folds %d of level %d of curve %d: %w", r.Seq, r.Level, r.Curve, err)
		}
		if tails[r.Curve] == nil {
			tails[r.Curve] = map[int]curve.FoldRow{}
		}
		tails[r.Curve][r.Level] = curve.FoldRow{Level: r.Level, Seq: r.Seq, First: first, Folds: folds}
	}
	var ids, levels, seqs []int
	var firsts, lasts []int64
	var payloads [][]byte
	for _, id := range curves {
		for _, row := range curve.RaiseFolds(tails[id], w.full[id]) {
			ids, levels, seqs = append(ids, id), append(levels, row.Level), append(seqs, row.Seq)
			firsts, lasts = append(firsts, row.First.Step), append(lasts, row.Folds[len(row.Folds)-1].Last.Step)
			payloads = append(payloads, curve.AppendFolds(nil, row.First, row.Folds))
		}
	}
	if len(ids) == 0 {
		return nil
	}
	_, err = w.Exec(ctx, "fold_write", db.A{"run": w.run, "leg": w.leg, "curves": ids, "levels": levels, "seqs": seqs,
		"first_steps": firsts, "last_steps": lasts, "payloads": payloads})
	return err
}
