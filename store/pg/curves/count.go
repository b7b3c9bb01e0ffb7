package curves

import (
	"context"
	"fmt"
	"math"
	"sort"
	"time"

	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// CountBatch counts a batch and keeps its readings, in this transaction; ErrNone where it is not this batch's turn.
func (q Queries) CountBatch(ctx context.Context, c store.Count) (store.Counted, error) {
	done, err := q.countBatches(ctx, []store.Count{c})
	if err == nil && len(done) == 0 {
		err = store.ErrNone
	}
	if err != nil {
		return store.Counted{}, err
	}
	return done[0], nil
}

func (q Queries) countBatches(ctx context.Context, counts []store.Count) ([]store.Counted, error) {
	n := len(counts)
	runs, legs, recorders, numbers, uptos := make([]int64, n), make([]int, n), make([]string, n),
		make([]int64, n), make([]int64, n)
	points, firsts, lasts, epochs, payloads := make([]int, n), make([]int64, n), make([]int64, n),
		make([]float64, n), make([][]byte, n)
	for i, c := range counts {
		runs[i], legs[i], recorders[i], numbers[i], uptos[i], points[i], epochs[i] = c.Run, c.Leg, c.Recorder, c.Number,
			c.Upto, c.Points, math.NaN()
		for _, p := range c.Batch.Axis {
			if !math.IsNaN(p.Epoch) {
				epochs[i] = p.Epoch
			}
		}
		if k := len(c.Batch.Axis); k > 0 {
			firsts[i], lasts[i], payloads[i] = c.Batch.Axis[0].Step, c.Batch.Axis[k-1].Step, c.Payload
			if c.Payload == nil {
				payloads[i] = curve.AppendJournal(nil, c.Batch)
			}
		}
	}
	return db.List[store.Counted](ctx, q, "batches_count", db.A{"runs": runs, "legs": legs, "recorders": recorders,
		"numbers": numbers, "uptos": uptos,
		"points": points, "firsts": firsts, "lasts": lasts, "epochs": epochs, "payloads": payloads})
}

// claim is a batch that waits for the next common commit.
type claim struct {
	store.Count
	answer chan<- answer
}

type answer struct {
	store.Counted
	err error
}

// Batches of many recorders are committed together: while one group waits for the disk the next one gathers. A second
// committer steps in where a group hangs, as on a leg that another transaction holds, so that one leg does not hold up
// the others.
const (
	groupSize = 64
	groupTime = 30 * time.Second
	hangs     = 20 * time.Millisecond
)

// CountTogether is CountBatch outside of a transaction, sharing one commit with the batches of other legs that are
// waiting. It returns when the batch is durable. Where ctx ends before, the batch may or may not have been counted.
func (s *Store) CountTogether(ctx context.Context, c store.Count) (store.Counted, error) {
	answers := make(chan answer, 1)
	select {
	case s.claims <- claim{c, answers}:
	case <-ctx.Done():
		return store.Counted{}, ctx.Err()
	case <-s.closing:
		return store.Counted{}, fmt.Errorf("the store is closed")
	}
	select {
	case a := <-answers:
		return a.Counted, a.err
	case <-ctx.Done():
		return store.Counted{}, ctx.Err()
	}
}

// commitGroups serves claims until the store closes; in reserve, only while the other committer hangs.
func (s *Store) commitGroups(reserve bool) {
	var waiting []claim
	for {
		if reserve && len(waiting) == 0 {
			select {
			case <-s.closing:
				return
			case <-time.After(hangs / 2):
			}
			if since := s.committing.Load(); since == 0 || time.Since(time.Unix(0, since)) < hangs {
				continue
			}
		}
		if len(waiting) == 0 {
			select {
			case <-s.closing:
				return
			case c := <-s.claims:
				waiting = append(waiting, c)
			}
		}
	gather:
		for len(waiting) < groupSize {
			select {
			case c := <-s.claims:
				waiting = append(waiting, c)
			default:
				break gather
			}
		}
		if !reserve {
			s.committing.Store(time.Now().UnixNano())
		}
		waiting = s.commitGroup(waiting)
		if !reserve {
			s.committing.Store(0)
		}
	}
}

// commitGroup commits the first waiting batch of each leg and returns the others.
func (s *Store) commitGroup(waiting []claim) (others []claim) {
	type key struct {
		run int64
		leg int
	}
	group, taken := waiting[:0:0], map[key]bool{}
	for _, c := range waiting {
		if k := (key{c.Run, c.Leg}); taken[k] {
			others = append(others, c)
		} else {
			taken[k], group = true, append(group, c)
		}
	}
	// One order of locking for all, so that groups do not wait for each other in a circle.
	sort.Slice(group, func(i, k int) bool {
		return group[i].Run < group[k].Run || group[i].Run == group[k].Run && group[i].Leg < group[k].Leg
	})
	counts := make([]store.Count, len(group))
	for i, c := range group {
		counts[i] = c.Count
	}
	ctx, cancel := context.WithTimeout(db.In(context.Background(), db.Recorders), groupTime)
	defer cancel()
	done, err := s.q.countBatches(ctx, counts)
	if err != nil && len(group) > 1 && !db.Away(err) {
		for _, c := range group { // one of them may be the reason
			counted, err := s.q.CountBatch(ctx, c.Count)
			c.answer <- answer{counted, err}
		}
		return others
	}
	at := make(map[key]store.Counted, len(done))
	for _, d := range done {
		at[key{d.Run, d.Leg}] = d
	}
	for _, c := range group {
		a := answer{err: err}
		if err == nil {
			var ok bool
			if a.Counted, ok = at[key{c.Run, c.Leg}]; !ok {
				a.err = store.ErrNone
			}
		}
		c.answer <- a
	}
	return others
}
