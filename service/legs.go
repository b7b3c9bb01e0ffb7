package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/hyper"
	"kembrel/store/pg"
)

// OpenLeg opens a leg, or claims one opened before with the same key for another recorder process.
func (s *Service) OpenLeg(ctx context.Context, who Who, in *api.NewLeg) (*api.Counted, error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	for _, id := range []string{in.Key, in.Body.Recorder} {
		if _, err := uuid.Parse(id); err != nil {
			return nil, api.Fail(api.Invalid, "%.60q is not a UUID; the key and the recorder are", id)
		}
	}
	var out api.Counted
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		if err := q.LockRun(ctx, run); err != nil {
			return err
		}
		leg, err := q.LegByKey(ctx, run, in.Key, s.options.LostAfter.Seconds())
		if err == nil {
			mine := leg.Recorder == in.Body.Recorder
			if !mine && leg.Alive && leg.State == "running" && !slices.Contains(in.Body.Previous, leg.Recorder) {
				return api.Fail(api.LegClaimed, "another recorder (on %s) writes leg %d of %s and was heard of within the last %s; only one may",
					leg.Host, leg.Number, runAddress(in.Project, in.Number), s.options.LostAfter)
			}
			out = api.Counted{Leg: leg.Number, Batch: leg.Batches, Upto: leg.Upto}
			if mine {
				return nil
			}
			return q.ClaimLeg(ctx, run, leg.Number, in.Body.Recorder)
		}
		if !errors.Is(err, pg.ErrNone) {
			return err
		}
		if elsewhere, err := q.LegKeyElsewhere(ctx, run, in.Key); err != nil || elsewhere {
			if err == nil {
				err = api.Fail(api.Conflict, "this key opened a leg of another run")
			}
			return err
		}
		if out.Leg, err = s.addLeg(ctx, q, run, in); err != nil {
			return err
		}
		if text := sayClock(ctx, clean(in.Body.Host)); text != "" {
			if err := q.AddNote(ctx, run, pg.Note{Leg: out.Leg, At: time.Now(), Text: text}); err != nil {
				return err
			}
		}
		if _, err := q.SetRunState(ctx, run, "running", nil); err != nil {
			return err
		}
		return s.runEvent(ctx, q, pg.Event{Kind: "leg", Run: run, Person: who.ID, What: "began"})
	})
	s.live.news()
	return &out, err
}

// SendBatch counts a batch once: its number and what it brings are kept in one transaction, or not at all.
func (s *Service) SendBatch(ctx context.Context, who Who, in *api.BatchInput) (*api.Counted, error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if in.Body.Number < 1 || in.Body.Upto < 1 || len(in.Body.Notes) > maxNotes {
		return nil, api.Fail(api.Invalid, "a batch has a number and an upto from 1 up, and at most %d notes", maxNotes)
	}
	if err := hyper.Check(in.Body.Hyper); err != nil {
		return nil, api.Fail(api.Invalid, "batch %d: %v", in.Body.Number, err)
	}
	batch, fresh, err := s.toBatch(ctx, run, in.Body)
	if err != nil {
		return nil, err
	}
	count := pg.Count{Run: run, Leg: in.Leg, Recorder: in.Recorder, Number: in.Body.Number, Upto: in.Body.Upto, Batch: batch.Batch, Points: batch.training}
	changed := len(in.Body.Hyper) > 0 || len(in.Body.Notes) > 0 || in.Body.Says != nil
	if !changed && !fresh {
		var before pg.Counted
		if before, err = s.db.CountTogether(ctx, count); err == nil && before.State == "lost" {
			err = s.db.InTx(ctx, func(q pg.Queries) (err error) {
				changed, err = s.alive(ctx, q, run, in.Leg, before.State)
				return err
			})
		}
	} else {
		err = s.db.InTx(ctx, func(q pg.Queries) error { return s.countAlone(ctx, q, who, in, batch, count) })
	}
	if errors.Is(err, pg.ErrNone) {
		if err = s.whyNotCounted(ctx, in, run, count); err != nil {
			var done *counted
			if errors.As(err, &done) {
				return &done.Counted, nil
			}
		}
	}
	if err != nil {
		return nil, err
	}
	if changed {
		s.live.news()
	}
	if len(batch.Axis) > 0 {
		s.live.touch("r", run)
	}
	return &api.Counted{Leg: in.Leg, Batch: in.Body.Number, Upto: in.Body.Upto}, nil
}

// countAlone counts a batch that brings more than readings of known curves, all in one transaction.
func (s *Service) countAlone(ctx context.Context, q pg.Queries, who Who, in *api.BatchInput, batch readBatch, count pg.Count) error {
	named := slices.DeleteFunc(slices.Clone(batch.names), func(n string) bool { return n == "" })
	ids, err := q.CurveIDs(ctx, count.Run, named)
	if err != nil {
		return err
	}
	for i, name := range batch.names {
		if name != "" {
			count.Batch.Columns[i].Curve = ids[name]
		}
	}
	before, err := q.CountBatch(ctx, count)
	if err != nil {
		return err
	}
	changed, err := s.alive(ctx, q, count.Run, in.Leg, before.State)
	if err != nil {
		return err
	}
	if len(in.Body.Hyper) > 0 {
		changed = true
		switch {
		case in.Leg > 1 || before.Before > 0:
			err = s.otherHyper(ctx, q, count.Run, in.Leg, in.Body.Hyper)
		default:
			err = q.SetHyper(ctx, count.Run, in.Body.Hyper)
		}
		if err != nil {
			return err
		}
	}
	if in.Body.Says != nil {
		changed = true
		if err := s.told(ctx, q, count.Run, in.Leg, in.Body.Says); err != nil {
			return err
		}
	}
	for _, n := range in.Body.Notes {
		changed = true
		if err := q.AddNote(ctx, count.Run, pg.Note{Leg: in.Leg, At: byOurClock(ctx, n.At), Text: clean(n.Text)}); err != nil {
			return err
		}
	}
	if !changed {
		return nil
	}
	return s.runEvent(ctx, q, pg.Event{Kind: "run", Run: count.Run, Person: who.ID, What: "told"})
}

// NameCurves gives curves numbers.
func (s *Service) NameCurves(ctx context.Context, _ Who, in *api.CurveNames) (*api.CurveNumbers, error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	for _, name := range in.Body.Names {
		if err := curve.CheckName(name); err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
	}
	if leg, err := s.db.Leg(ctx, run, in.Leg); err != nil || leg.Recorder != in.Recorder {
		if err != nil {
			return nil, orNotFound(err, "%s has no leg %d", runAddress(in.Project, in.Number), in.Leg)
		}
		return nil, legClaimed(runAddress(in.Project, in.Number), in.Leg)
	}
	out := &api.CurveNumbers{Curves: make([]int, len(in.Body.Names))}
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		ids, err := q.CurveIDs(ctx, run, in.Body.Names)
		if err == nil && len(ids) > maxCurves {
			err = tooManyCurves(in.RunInput)
		}
		for i, name := range in.Body.Names {
			out.Curves[i] = ids[name]
		}
		return err
	})
	return out, err
}

// maxCurves is how many curves a run may have.
const maxCurves = 5000

func tooManyCurves(in api.RunInput) error {
	return api.Fail(api.Invalid, "%s would have more than %d curves", runAddress(in.Project, in.Number), maxCurves)
}

// maxNotes is how many notes one batch may bring; a note has at most 10,000 bytes, as the recorder sees to.
const maxNotes = 10_000

// counted says that a batch was counted before; it ends the transaction without being a failure.
type counted struct{ api.Counted }

func (*counted) Error() string { return "counted before" }

// whyNotCounted finds out why a batch was not the next of its leg.
func (s *Service) whyNotCounted(ctx context.Context, in *api.BatchInput, run int64, c pg.Count) error {
	leg, err := s.db.Leg(ctx, run, in.Leg)
	address := runAddress(in.Project, in.Number)
	switch {
	case err != nil:
		return orNotFound(err, "%s has no leg %d", address, in.Leg)
	case leg.Recorder != in.Recorder:
		return legClaimed(address, in.Leg)
	case in.Body.Number <= leg.Batches:
		return &counted{api.Counted{Leg: in.Leg, Batch: leg.Batches, Upto: leg.Upto}}
	case in.Body.Number > leg.Batches+1:
		p := api.Fail(api.BatchGap, "batch %d of leg %d of %s came, but the last one counted is %d", in.Body.Number, in.Leg, address, leg.Batches)
		p.Batch, p.Upto = leg.Batches, leg.Upto
		return p
	}
	return api.Fail(api.Invalid, "batch %d goes back from step %d to step %d; within a leg the step never falls", in.Body.Number, leg.LastStep, c.Batch.Axis[0].Step)
}

func legClaimed(address string, leg int) error {
	return api.Fail(api.LegClaimed, "leg %d of %s is written by another recorder now; this one must stop", leg, address)
}

// readBatch is a batch in core's form.
type readBatch struct {
	curve.Batch
	names    []string // of the columns that came by name, else ""
	training int      // points that have more than the machine's readings
}

// toBatch checks a batch and turns it into core's form; fresh says that some of its names have no number yet.
func (s *Service) toBatch(ctx context.Context, run int64, in api.Batch) (out readBatch, fresh bool, err error) {
	invalid := func(format string, args ...any) (readBatch, bool, error) {
		return readBatch{}, false, api.Fail(api.Invalid, "batch %d: %v", in.Number, fmt.Sprintf(format, args...))
	}
	n := len(in.Axis.Step)
	if len(in.Axis.Epoch) != n || len(in.Axis.Time) != n {
		return invalid("the axis has %d steps, %d epochs and %d times", n, len(in.Axis.Epoch), len(in.Axis.Time))
	}
	out.Axis, out.Columns, out.names = make([]curve.Point, n), make([]curve.Column, len(in.Curves)), make([]string, len(in.Curves))
	late := ahead(ctx).Milliseconds()
	for i := range out.Axis {
		out.Axis[i] = curve.Point{Step: in.Axis.Step[i], Epoch: in.Axis.Epoch[i], Time: in.Axis.Time[i] - late}
	}
	var named []string
	highest := 0
	for i, c := range in.Curves {
		switch {
		case c.Name != "" && c.Curve != 0:
			return invalid("curve %q has a name and a number; give one of them", c.Name)
		case c.Name != "":
			if err := curve.CheckName(c.Name); err != nil {
				return invalid("%v", err)
			}
			named, out.names[i] = append(named, c.Name), c.Name
		case c.Curve < 1 || c.Curve > maxCurves:
			return invalid("column %d has neither a name nor a number that name-curves gave", i)
		}
		if !curve.OfMachine(c.Name) { // those of the machine come by name
			out.training = n
		}
		highest = max(highest, c.Curve)
		out.Columns[i] = curve.Column{Curve: c.Curve, Values: c.Values}
		if c.Rows != nil {
			out.Columns[i].Rows = make([]int, len(c.Rows))
			for k, r := range c.Rows {
				out.Columns[i].Rows[k] = int(r)
			}
		}
	}
	if err := out.Check(0); err != nil {
		return invalid("%v", err)
	}
	if len(in.Curves) == 0 {
		return out, false, nil
	}
	ids, err := s.db.CachedCurves(ctx, run, named, highest)
	if err != nil {
		return out, false, err
	}
	if highest > len(ids) {
		return invalid("no curve has the number %d; name-curves gives numbers", highest)
	}
	seen := make(map[int]bool, len(in.Curves))
	added := map[string]bool{}
	for i, name := range out.names {
		id, known := out.Columns[i].Curve, true
		if name != "" {
			if id, known = ids[name]; !known {
				if added[name] {
					return invalid("curve %q is there twice", name)
				}
				added[name], fresh = true, true
				continue
			}
		}
		if seen[id] {
			return invalid("curve %d (%s) is there twice", id, name)
		}
		seen[id], out.Columns[i].Curve = true, id
	}
	if len(ids)+len(added) > maxCurves {
		return invalid("the run would have more than %d curves", maxCurves)
	}
	return out, fresh, nil
}

// alive makes a lost leg running again and returns whether it was.
func (s *Service) alive(ctx context.Context, q pg.Queries, run int64, leg int, state string) (bool, error) {
	if state != "lost" {
		return false, nil
	}
	if revived, err := q.ReviveLeg(ctx, run, leg); err != nil || !revived {
		return false, err
	}
	if _, err := q.SetRunState(ctx, run, "running", nil); err != nil {
		return false, err
	}
	return true, s.runEvent(ctx, q, pg.Event{Kind: "run", Run: run, What: "heard of again"})
}

// ShowLife notes a sign of life, and tells what is new. Where batches keep coming that is one statement, which only reads.
func (s *Service) ShowLife(ctx context.Context, _ Who, in *api.LegInput) (*api.LegNews, error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	news, err := s.db.LegNews(ctx, run, in.Leg)
	address := runAddress(in.Project, in.Number)
	switch {
	case err != nil:
		return nil, orNotFound(err, "%s has no leg %d", address, in.Leg)
	case news.Recorder != in.Recorder:
		return nil, legClaimed(address, in.Leg)
	}
	if !news.Fresh || news.LegState == "lost" {
		if err := s.seeLeg(ctx, run, in); err != nil {
			return nil, err
		}
	}
	return s.legNews(ctx, run, in, news)
}

// seeLeg notes that a leg was heard of.
func (s *Service) seeLeg(ctx context.Context, run int64, in *api.LegInput) error {
	revived := false
	err := s.db.InTx(ctx, func(q pg.Queries) error {
		state, err := q.SeeLeg(ctx, run, in.Leg, in.Recorder)
		if err != nil {
			return s.orNotMine(ctx, err, run, in)
		}
		revived, err = s.alive(ctx, q, run, in.Leg, state)
		return err
	})
	if revived {
		s.live.news()
	}
	return err
}

// legNews applies the stop rule to what is there, so that a recorder which asks hears at once.
func (s *Service) legNews(ctx context.Context, run int64, in *api.LegInput, news pg.LegNews) (*api.LegNews, error) {
	out := &api.LegNews{Objective: news.Objective, Rule: parseRule(news.Rule)}
	if out.Rule != nil && news.State == "running" && news.Stopped == nil {
		if err := s.watchRuns(ctx, []int64{run}); err != nil {
			return nil, err
		}
		rows, err := s.db.Judgements(ctx, []int64{run})
		if err != nil {
			return nil, err
		}
		if len(rows) > 0 {
			news.Stopped, news.State = rows[0].Stopped, rows[0].State
		}
	}
	if news.Stopped != nil && news.State == "running" {
		var stopped api.Stopped
		if err := json.Unmarshal(news.Stopped, &stopped); err != nil {
			return nil, err
		}
		out.Stop = stopped.Why
	}
	if news.Newest != in.Leg {
		out.Stop = fmt.Sprintf("%s goes on as leg %d on %s since %s; this process, leg %d, must stop. What it still records stays with its own leg.",
			runAddress(in.Project, in.Number), news.Newest, news.NewestHost, news.NewestStarted.UTC().Format("15:04:05 UTC"), in.Leg)
	}
	if !news.ToldStart {
		return out, nil
	}
	var err error
	out.Warnings, err = s.startWarnings(ctx, run)
	return out, err
}

func (s *Service) orNotMine(ctx context.Context, err error, run int64, in *api.LegInput) error {
	if !errors.Is(err, pg.ErrNone) {
		return err
	}
	address := runAddress(in.Project, in.Number)
	if _, err := s.db.Leg(ctx, run, in.Leg); err != nil {
		return orNotFound(err, "%s has no leg %d", address, in.Leg)
	}
	return legClaimed(address, in.Leg)
}

// outputKept is how many bytes of a leg's output stay; the oldest go first.
const outputKept = 4 << 20

// SendOutput keeps a stretch of the program's output.
func (s *Service) SendOutput(ctx context.Context, _ Who, in *api.OutputInput) (*api.None, error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	b := in.Body
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		return s.orNotMine(ctx, q.AddOutput(ctx, run, in.Recorder, pg.Output{Leg: in.Leg, Stream: b.Stream, Start: b.Offset, Size: b.Size, Text: clean(b.Text)}, outputKept), run, &in.LegInput)
	})
	if err == nil {
		s.live.touch("o", run)
	}
	return nil, err
}

// GetOutput reads output behind an id.
func (s *Service) GetOutput(ctx context.Context, _ Who, in *api.OutputsInput) (*api.Page[api.Output], error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListOutput(ctx, run, in.After)
	return page(rows, len(rows), func(o pg.Output) api.Output {
		return api.Output{ID: o.ID, Leg: o.Leg, Stream: o.Stream, Offset: o.Start, Size: o.Size, Text: o.Text}
	}, nil), err
}

// EndLeg ends a leg; the run takes its state if the leg is the newest.
func (s *Service) EndLeg(ctx context.Context, who Who, in *api.EndInput) (*api.None, error) {
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	b := in.Body
	if b.ExitCode != nil && int(int32(*b.ExitCode)) != *b.ExitCode { // of no system there is
		b.ExitCode = nil
	}
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		ended := byOurClock(ctx, b.At)
		newest, err := q.EndLeg(ctx, pg.Ending{Run: run, Leg: in.Leg, Recorder: in.Recorder, State: b.State, Ended: ended, ExitCode: b.ExitCode,
			Signal: clean(b.Signal), Why: clean(b.Why), Tail: clean(b.Tail)})
		if err != nil {
			return s.orNotMine(ctx, err, run, &in.LegInput)
		}
		if newest {
			if _, err := q.SetRunState(ctx, run, b.State, &ended); err != nil {
				return err
			}
		}
		return s.runEvent(ctx, q, pg.Event{Kind: "run", Run: run, Person: who.ID, What: b.State})
	})
	if err == nil { // whoever asks for the best now is to get it; the ticker would do it a moment later
		_, err := s.db.SummariseRun(ctx, run)
		if err = errors.Join(err, s.judge(ctx, run, true), s.compareWithOrigin(ctx, run)); err != nil {
			s.options.Log.Warn("summaries of curves wait", "err", err)
		}
	}
	s.live.news()
	return nil, err
}

// loseRuns marks what has not been heard of for too long.
func (s *Service) loseRuns(ctx context.Context) error {
	var lost []pg.LostLeg
	err := s.db.InTx(ctx, func(q pg.Queries) (err error) {
		if lost, err = q.LoseLegs(ctx, s.options.LostAfter.Seconds()); err != nil {
			return err
		}
		for _, l := range lost {
			if !l.Newest {
				continue
			}
			if _, err := q.SetRunState(ctx, l.Run, "lost", l.Ended); err != nil {
				return err
			}
			if err := s.runEvent(ctx, q, pg.Event{Kind: "run", Run: l.Run, What: "lost"}); err != nil {
				return err
			}
		}
		return nil
	})
	if len(lost) > 0 {
		s.live.news()
	}
	return err
}

// lookoutPace is how often runs without a sign of life are looked for.
const lookoutPace = 5 * time.Second
