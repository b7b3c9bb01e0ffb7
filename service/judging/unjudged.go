package judging

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"math"
	"slices"
	"time"

	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// judgeShare is how long judging may take before the summaries have their turn again. With very many runs those are
// judged first that are in another epoch than when they were judged, and of these whose curves grew most: what a long
// curve says does not change with one more reading.
const judgeShare = 300 * time.Millisecond

// judgeRuns is how many runs are judged with the same statements; while no more wait, each is also looked at where it
// was best.
const judgeRuns = 64

// mostFolds is how many folds are remembered for judging, of 80 bytes each.
const mostFolds = 400_000

// unjudged are runs with readings that no verdict has seen. Only keepSummaries uses it.
type unjudged struct {
	waiting map[int64]int64 // run: batches now
	judged  map[int64]int64 // run: batches when it was judged last
	learnt  map[int64]*learnt
}

// learnt are the curves of a run that trains as they were when it was judged, and what came since: it is judged again
// without reading it all.
type learnt struct {
	objective  verdict.Objective
	before     ancestry
	batches    int64 // in it
	train, val curve.Reducer
	to         float64 // the furthest place on the axis
	seen       int     // folds of the objective when it was judged
}

// add takes in what came; false: it does not simply go on.
func (l *learnt) add(d store.Summarised) bool {
	if d.Before != l.batches {
		return false
	}
	for i, stretches := range [][]store.Stretch{d.Train, d.Objective} {
		r := []*curve.Reducer{&l.train, &l.val}[i]
		last := int64(-1) // what was read had perhaps come already when it was read whole
		if n := len(r.Folds); n > 0 {
			last = r.Folds[n-1].Last.Step
		}
		for _, s := range stretches {
			from := 0
			for from < len(s.Points) && s.Points[from].Step <= last {
				from++
			}
			for _, p := range s.Points[from:] {
				x := r.Window.By.At(p)
				if !(x >= r.Window.From) {
					return false
				}
				l.to = max(l.to, x)
			}
			r.Readings(s.Points[from:], s.Values[from:])
		}
	}
	l.batches = d.Batches
	return true
}

// usable reports whether the folds are as wide as they would be if all were read now.
func (l *learnt) usable(o verdict.Objective, sum curve.Summary) bool {
	w := l.val.Window
	return l.objective == o && math.IsNaN(sum.Last.Epoch) == (w.By == curve.ByStep) &&
		judgedWindow(w.By, w.From, l.to).Width == w.Width
}

func (u *unjudged) add(d store.Summarised) {
	if u.waiting == nil {
		u.waiting, u.judged, u.learnt = map[int64]int64{}, map[int64]int64{}, map[int64]*learnt{}
	}
	u.waiting[d.Run] = d.Batches
	if l := u.learnt[d.Run]; l != nil && !l.add(d) {
		delete(u.learnt, d.Run)
	}
	if len(u.judged) > act.MostRemembered { // ended long ago, most of them
		u.judged = map[int64]int64{}
	}
}

// remember keeps what a run was judged by, if there is room.
func (u *unjudged) remember(run int64, o verdict.Objective, f judgedFolds) {
	delete(u.learnt, run)
	kept := 0
	for _, l := range u.learnt {
		kept += len(l.train.Folds) + len(l.val.Folds)
	}
	if f.window.Width == 0 || kept+len(f.train)+len(f.val) > mostFolds {
		return
	}
	to := f.window.To
	f.window.To = math.Inf(1)
	u.learnt[run] = &learnt{objective: o, before: f.before, batches: u.waiting[run],
		train: curve.Continue(f.window, f.train), val: curve.Continue(f.window, f.val), to: to}
}

// next lists the runs that wait, in the order in which they are judged.
func (u *unjudged) next() []int64 {
	runs := make([]int64, 0, len(u.waiting))
	for run := range u.waiting {
		runs = append(runs, run)
	}
	grew := func(run int64) float64 {
		return float64(u.waiting[run]-u.judged[run]) / float64(max(1, u.waiting[run]))
	}
	same := func(run int64) int { // 1: in the same epoch still
		if l := u.learnt[run]; l != nil && len(l.val.Folds) == l.seen {
			return 1
		}
		return 0
	}
	slices.SortFunc(runs, func(a, b int64) int {
		return cmp.Or(cmp.Compare(same(a), same(b)), cmp.Compare(grew(b), grew(a)), cmp.Compare(a, b))
	})
	return runs
}

// done notes that a run was judged, or that it cannot be.
func (u *unjudged) done(run int64) {
	u.judged[run] = u.waiting[run]
	if l := u.learnt[run]; l != nil {
		l.seen = len(l.val.Folds)
	}
	delete(u.waiting, run)
}

// JudgeSome judges runs that wait until its time is over; some at least.
func (s *Judging) JudgeSome(ctx context.Context) (failed error) {
	began, waiting := time.Now(), s.unjudged.next()
	for group := range slices.Chunk(waiting, judgeRuns) {
		err := s.judgeGroup(ctx, group, len(waiting) <= judgeRuns, began.Add(judgeShare))
		if db.Away(err) {
			return err // they go on waiting
		}
		if failed = errors.Join(failed, err); time.Since(began) > judgeShare || ctx.Err() != nil {
			break
		}
	}
	return failed
}

// judgeGroup judges runs together until a moment, one at least; thorough: also what their other curves were when they
// were best, which waits for a quieter moment or the run's end where very many train.
func (s *Judging) judgeGroup(ctx context.Context, runs []int64, thorough bool, until time.Time) (failed error) {
	rows, err := s.db.Judgements(ctx, runs)
	if err != nil {
		return err
	}
	byRun, named := map[int64]store.Judgement{}, map[string][]int64{}
	for _, row := range rows {
		byRun[row.ID] = row
		if row.State != "running" {
			continue
		}
		named[row.Objective.Curve] = append(named[row.Objective.Curve], row.ID)
	}
	sums := map[int64]curve.Summary{}
	for name, of := range named {
		found, err := s.db.Summaries(ctx, of, name)
		if err != nil {
			return err
		}
		for _, sum := range found {
			sums[sum.Run] = sum.Core()
		}
	}
	var judged []int64
	var verdicts []json.RawMessage
	for i, run := range runs {
		row, known := byRun[run]
		if !known || row.State != "running" { // it was deleted, or what is said of it now stays
			delete(s.unjudged.learnt, run)
			if err := s.Judge(ctx, run); err != nil {
				if db.Away(err) {
					return err
				}
				failed = errors.Join(failed, err)
			}
		} else {
			text, err := s.judgeOne(ctx, row, sums[run])
			if db.Away(err) {
				return err
			}
			if failed = errors.Join(failed, err); err == nil {
				judged, verdicts = append(judged, run), append(verdicts, text)
			}
		}
		s.unjudged.done(run)
		if i+1 < len(runs) && (time.Now().After(until) || ctx.Err() != nil) {
			runs = runs[:i+1]
			break
		}
	}
	if len(judged) > 0 {
		failed = errors.Join(failed, s.db.SetVerdicts(ctx, judged, verdicts))
	}
	for _, run := range runs {
		if thorough && slices.Contains(judged, run) {
			failed = errors.Join(failed, s.lookAtBest(ctx, byRun[run]))
		}
		s.Live.Touch("s", run)
	}
	return failed
}

// judgeOne says what the curves of a run that trains say: from what is known of it and what came since, or by reading
// it.
func (s *Judging) judgeOne(ctx context.Context, row store.Judgement,
	sum curve.Summary) (json.RawMessage, error) {
	if sum.Count == 0 {
		sum = curve.NewSummary()
	}
	var f judgedFolds
	if l := s.unjudged.learnt[row.ID]; l != nil && l.usable(row.Objective, sum) {
		f = judgedFolds{window: l.val.Window, train: l.train.Folds, val: l.val.Folds, before: l.before}
	} else {
		var err error
		if f, err = s.foldsOf(ctx, row.ID, row.Objective, sum); err != nil {
			return nil, err
		}
		s.unjudged.remember(row.ID, row.Objective, f)
	}
	return json.Marshal(f.verdict(row.Objective, sum))
}
