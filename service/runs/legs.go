package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/rules"
	"kembrel/store"
)

// OpenLeg opens a leg, or claims one opened before with the same key for another recorder process.
func (s *Runs) OpenLeg(ctx context.Context, who act.Who, in *api.NewLeg) (*api.Counted, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	for _, id := range []string{in.Key, in.Body.Recorder} {
		if _, err := uuid.Parse(id); err != nil {
			return nil, api.Fail(api.Invalid, "%.60q is not a UUID; the key and the recorder are", id)
		}
	}
	var out api.Counted
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.LockRun(ctx, run); err != nil {
			return err
		}
		leg, err := q.LegByKey(ctx, run, in.Key, s.lostAfter.Seconds())
		if err == nil {
			mine := leg.Recorder == in.Body.Recorder
			if !mine && leg.Alive && leg.State == "running" && !slices.Contains(in.Body.Previous, leg.Recorder) {
				return api.Fail(api.LegClaimed,
					"another recorder (on %s) writes leg %d of %s and was heard of within the last %s; only one may",
					leg.Host, leg.Number, act.RunAddress(in.Project, in.Number), s.lostAfter)
			}
			out = api.Counted{Leg: leg.Number, Batch: leg.Batches, Upto: leg.Upto}
			if mine {
				return nil
			}
			return q.ClaimLeg(ctx, run, leg.Number, in.Body.Recorder)
		}
		if !errors.Is(err, store.ErrNone) {
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
		if text := act.SayClock(ctx, act.Clean(in.Body.Host)); text != "" {
			if err := q.AddNote(ctx, run, store.Note{Leg: out.Leg, At: time.Now(), Text: text}); err != nil {
				return err
			}
		}
		if err := q.UnstopRun(ctx, run); err != nil {
			return err
		}
		if _, err := q.SetRunState(ctx, run, "running", nil); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "leg", Run: run, Person: who.ID, Verb: "began"})
	})
	s.Live.News()
	return &out, err
}

// alive makes a lost leg running again and returns whether it was.
func (s *Runs) alive(ctx context.Context, q Tx, run int64, leg int, state string) (bool, error) {
	if state != "lost" {
		return false, nil
	}
	if revived, err := q.ReviveLeg(ctx, run, leg); err != nil || !revived {
		return false, err
	}
	if _, err := q.SetRunState(ctx, run, "running", nil); err != nil {
		return false, err
	}
	return true, s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Verb: "heard-of-again"})
}

// ShowLife notes a sign of life, and tells what is new. Where batches keep coming that is one statement, which only
// reads.
func (s *Runs) ShowLife(ctx context.Context, _ act.Who, in *api.LegInput) (*api.LegNews, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	news, err := s.db.LegNews(ctx, run, in.Leg)
	address := act.RunAddress(in.Project, in.Number)
	switch {
	case err != nil:
		return nil, act.OrNotFound(err, "%s has no leg %d", address, in.Leg)
	case news.Recorder != in.Recorder:
		return nil, act.LegClaimed(address, in.Leg)
	}
	if !news.Fresh || news.LegState == "lost" {
		if err := s.seeLeg(ctx, run, in); err != nil {
			return nil, err
		}
	}
	return s.legNews(ctx, run, in, news)
}

// seeLeg notes that a leg was heard of.
func (s *Runs) seeLeg(ctx context.Context, run int64, in *api.LegInput) error {
	revived := false
	err := s.db.InTx(ctx, func(q Tx) error {
		if err := q.LockRun(ctx, run); err != nil {
			return s.orNotMine(ctx, err, run, in)
		}
		state, err := q.SeeLeg(ctx, run, in.Leg, in.Recorder)
		if err != nil {
			return s.orNotMine(ctx, err, run, in)
		}
		revived, err = s.alive(ctx, q, run, in.Leg, state)
		return err
	})
	if revived {
		s.Live.News()
	}
	return err
}

// legNews applies the stop rule to what is there, so that a recorder which asks hears at once.
func (s *Runs) legNews(ctx context.Context, run int64, in *api.LegInput, news store.LegNews) (*api.LegNews, error) {
	out := &api.LegNews{Objective: news.Objective, Rule: rules.ParseRule(news.Rule)}
	if out.Rule != nil && news.State == "running" && news.Stopped == nil {
		if err := s.judging.WatchRuns(ctx, []int64{run}); err != nil {
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
		out.Stop, out.End = stopped.Why, stopped.End
	}
	if news.Newest != in.Leg {
		out.Stop = fmt.Sprintf("%s goes on as leg %d on %s since %s; this process, leg %d, must stop. What it still records stays with its own leg.",
			act.RunAddress(in.Project, in.Number), news.Newest, news.NewestHost,
			news.NewestStarted.UTC().Format("15:04:05 UTC"), in.Leg)
	}
	if !news.ToldStart {
		return out, nil
	}
	var err error
	out.Warnings, err = s.startWarnings(ctx, run)
	return out, err
}

func (s *Runs) orNotMine(ctx context.Context, err error, run int64, in *api.LegInput) error {
	if !errors.Is(err, store.ErrNone) {
		return err
	}
	address := act.RunAddress(in.Project, in.Number)
	if _, err := s.db.Leg(ctx, run, in.Leg); err != nil {
		return act.OrNotFound(err, "%s has no leg %d", address, in.Leg)
	}
	return act.LegClaimed(address, in.Leg)
}

// outputKept is how many bytes of a leg's output stay; the oldest go first.
const outputKept = 4 << 20

// SendOutput keeps a stretch of the program's output.
func (s *Runs) SendOutput(ctx context.Context, _ act.Who, in *api.OutputInput) (*api.None, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	b := in.Body
	err = s.db.InTx(ctx, func(q Tx) error {
		return s.orNotMine(ctx,
			q.AddOutput(ctx, run, in.Recorder, store.Output{Leg: in.Leg, Stream: b.Stream, Start: b.Offset,
				Size: b.Size, Text: act.Clean(b.Text)}, outputKept), run, &in.LegInput)
	})
	if err == nil {
		s.Live.Touch("o", run)
	}
	return nil, err
}

// GetOutput reads output behind an id.
func (s *Runs) GetOutput(ctx context.Context, _ act.Who, in *api.OutputsInput) (*api.Page[api.Output], error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListOutput(ctx, run, in.After)
	return act.Page(rows, len(rows), func(o store.Output) api.Output {
		return api.Output{ID: o.ID, Leg: o.Leg, Stream: o.Stream, Offset: o.Start, Size: o.Size, Text: o.Text}
	}, nil), err
}

// EndLeg ends a leg; the run takes its state if the leg is the newest.
func (s *Runs) EndLeg(ctx context.Context, who act.Who, in *api.EndInput) (*api.None, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	b := in.Body
	if b.ExitCode != nil && int(int32(*b.ExitCode)) != *b.ExitCode { // of no system there is
		b.ExitCode = nil
	}
	if b.State == "stopped" { // a recorder that decided alone: what its rule says is kept while the run still runs
		if err := s.judging.WatchRuns(ctx, []int64{run}); err != nil {
			s.Log.Warn("stop rule of a run that ends", "err", err)
		}
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		ended := act.ByOurClock(ctx, b.At)
		if err := q.LockRun(ctx, run); err != nil {
			return s.orNotMine(ctx, err, run, &in.LegInput)
		}
		newest, err := q.EndLeg(ctx, store.Ending{Run: run, Leg: in.Leg, Recorder: in.Recorder, State: b.State,
			Ended: ended, ExitCode: b.ExitCode,
			Signal: act.Clean(b.Signal), Why: act.Clean(b.Why), Tail: act.Clean(b.Tail)})
		if err != nil {
			return s.orNotMine(ctx, err, run, &in.LegInput)
		}
		if newest {
			if _, err := q.SetRunState(ctx, run, b.State, &ended); err != nil {
				return err
			}
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, Verb: b.State})
	})
	if err == nil { // whoever asks for the best now is to get it; the ticker would do it a moment later
		_, err := s.db.SummariseRun(ctx, run)
		if err = errors.Join(err, s.judging.Judge(ctx, run), s.compareWithOrigin(ctx, run)); err != nil {
			s.Log.Warn("summaries of curves wait", "err", err)
		}
	}
	s.Live.News()
	return nil, err
}

// LoseRuns marks what has not been heard of for too long.
func (s *Runs) LoseRuns(ctx context.Context) error {
	var lost []store.LostLeg
	err := s.db.InTx(ctx, func(q Tx) (err error) {
		if lost, err = q.LoseLegs(ctx, s.lostAfter.Seconds()); err != nil {
			return err
		}
		for _, l := range lost {
			if !l.Newest {
				continue
			}
			if _, err := q.SetRunState(ctx, l.Run, "lost", l.Ended); err != nil {
				return err
			}
			if err := s.RunEvent(ctx, q, store.Event{Kind: "run", Run: l.Run, Verb: "lost"}); err != nil {
				return err
			}
		}
		return nil
	})
	if len(lost) > 0 {
		s.Live.News()
	}
	return err
}

// LookoutPace is how often runs without a sign of life are looked for.
const LookoutPace = 5 * time.Second
