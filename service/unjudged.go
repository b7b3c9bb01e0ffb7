package service

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"kembrel/store/pg"
)

// judgeShare is how long judging may take before the summaries have their turn again. With few runs each is judged with every reading that comes; with
// very many those first whose curves grew most since they were judged, as what a long curve says does not change with one more reading.
const judgeShare = 300 * time.Millisecond

// thoroughRuns is how many runs may wait for all of them to be judged thoroughly.
const thoroughRuns = 64

// unjudged are runs with readings that no verdict has seen. Only keepSummaries uses it.
type unjudged struct {
	waiting map[int64]int64 // run: batches now
	judged  map[int64]int64 // run: batches when it was judged last
}

func (u *unjudged) add(d pg.Summarised) {
	if u.waiting == nil {
		u.waiting, u.judged = map[int64]int64{}, map[int64]int64{}
	}
	u.waiting[d.Run] = d.Batches
	if len(u.judged) > mostRemembered { // ended long ago, most of them
		u.judged = map[int64]int64{}
	}
}

// next lists the runs that wait, that first which grew most.
func (u *unjudged) next() []int64 {
	runs := make([]int64, 0, len(u.waiting))
	for run := range u.waiting {
		runs = append(runs, run)
	}
	grew := func(run int64) float64 {
		return float64(u.waiting[run]-u.judged[run]) / float64(max(1, u.waiting[run]))
	}
	slices.SortFunc(runs, func(a, b int64) int { return cmp.Or(cmp.Compare(grew(b), grew(a)), cmp.Compare(a, b)) })
	return runs
}

// judgeSome judges runs that wait until its time is over; at least one.
func (s *Service) judgeSome(ctx context.Context) (failed error) {
	began, waiting := time.Now(), s.unjudged.next()
	thorough := len(waiting) <= thoroughRuns
	for _, run := range waiting {
		err := s.judge(ctx, run, thorough)
		if pg.Away(err) {
			return err // it goes on waiting
		}
		failed = errors.Join(failed, err)
		s.unjudged.judged[run] = s.unjudged.waiting[run]
		delete(s.unjudged.waiting, run)
		s.live.touch("s", run)
		if time.Since(began) > judgeShare || ctx.Err() != nil {
			break
		}
	}
	return failed
}
