package recorder

import (
	"context"
	"errors"
	"io"
	"os"
	"slices"
	"syscall"
	"time"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/recorder/spool"
)

// stopper applies the run's stop rule to this recorder's own readings, as the service does to those it has. The service
// has the word while it answers; where it is away, the recorder decides. Both use core/verdict, so they decide the
// same.
type stopper struct {
	objective verdict.Objective
	rule      *verdict.StopRule
	watch     verdict.Watch
	told      bool          // the program has been advised
	live      *liveReadings // where the readings of before are still being read; nil: the watch has seen all
}

// liveReadings are those of the objective that came while the spool was read for a new rule.
type liveReadings struct{ readings []curve.Reading }

// set takes a rule; true where it is another than before, so that the watch begins anew.
func (s *stopper) set(o verdict.Objective, rule *verdict.StopRule) bool {
	if rule != nil {
		o = rule.Of(o)
	}
	same := o == s.objective && (rule == nil) == (s.rule == nil) && (rule == nil || *rule == *s.rule)
	if !same {
		s.objective, s.rule, s.watch, s.live = o, rule, verdict.Watch{}, nil
	}
	return !same
}

// see takes readings.
func (s *stopper) see(names []string, b curve.Batch) {
	if s.rule == nil {
		return
	}
	for i, c := range b.Columns {
		if names[i] != s.objective.Curve {
			continue
		}
		for _, r := range b.Readings(c) {
			if s.live != nil {
				s.live.readings = append(s.live.readings, r)
				continue
			}
			s.watch.Add(s.objective, *s.rule, r)
		}
	}
}

// follow takes the rule that the service names and passes on its word to stop. A new rule is applied to all readings
// that the spool holds, which may take a while and holds up nobody: the program, and its signs of life, go on
// meanwhile.
func (n *session) follow(news *api.LegNews) (changed bool) {
	n.mutex.Lock()
	changed = n.stop.set(news.Objective, news.Rule)
	if changed && news.Rule != nil {
		n.stop.live = &liveReadings{}
		go n.replay(n.stop.objective, *n.stop.rule, n.stop.live, n.spool.Appended())
	}
	n.mutex.Unlock()
	if news.Stop != "" {
		n.tellStop(news.Stop)
		if news.End {
			select {
			case n.ending <- news.Stop:
			default: // it is being ended
			}
		}
	}
	return changed
}

// replay applies a rule to the readings in the first size bytes of the spool, without the mutex, then to those that
// came meanwhile. Where another rule has been set since, what it found is dropped. It ends early when the spool is
// closed.
func (n *session) replay(o verdict.Objective, rule verdict.StopRule, live *liveReadings, size int64) {
	fresh := stopper{objective: o, rule: &rule}
	if err := fresh.readAll(n.spool.Reader(), size); err != nil && !errors.Is(err, os.ErrClosed) {
		n.say("cannot read the spool again for the stop rule: %v", withoutPath(err))
	}
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if n.stop.live != live {
		return
	}
	for _, r := range live.readings {
		fresh.watch.Add(o, rule, r)
	}
	n.stop.watch, n.stop.live = fresh.watch, nil
	n.cross()
}

// readAll sees all readings in the first size bytes of a spool.
func (s *stopper) readAll(records *spool.Reader, size int64) error {
	for {
		record, err := records.Next(size)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if record.Kind != spool.Readings {
			continue
		}
		names, rest, err := decodeNames(record.Body)
		if err == nil && !slices.Contains(names, s.objective.Curve) {
			continue // most are of the machine, and unpacking costs most
		}
		var batch curve.Batch
		if err == nil {
			batch, err = decodeBatch(names, rest)
		}
		if err != nil {
			return err
		}
		s.see(names, batch)
	}
}

// watch shows the stopper readings. The mutex is held.
func (n *session) watch(names []string, b curve.Batch) {
	n.stop.see(names, b)
	n.cross()
}

// cross has it looked at whether the program is to stop, where the rule says so. The mutex is held.
func (n *session) cross() {
	if n.stop.watch.Stop != nil && !n.stop.told {
		select {
		case n.crossed <- struct{}{}:
		default:
		}
	}
}

// tellStop advises the program to stop, once.
func (n *session) tellStop(why string) {
	n.mutex.Lock()
	told := n.stop.told
	n.stop.told = true
	n.why = why
	n.mutex.Unlock()
	if told {
		return
	}
	n.say("%s", why)
	n.advise(why)
	select {
	case n.stopping <- why:
	default:
	}
}

// Where the recorder's own watch says stop, the service is asked for its word so often, and so long before the recorder
// decides alone.
const (
	askPace = 300 * time.Millisecond
	askTime = 10 * time.Second
)

// obeyRule waits for the recorder's own watch to say stop and sees to it that the program hears.
func (s *sender) obeyRule(ctx context.Context) {
	for n := s.session; ; {
		select {
		case <-ctx.Done():
			return
		case <-n.crossed:
		}
		if s.decide(ctx, n) {
			return
		}
	}
}

// decide asks the service for its word, or decides alone. It is false where the rule has been changed meanwhile.
func (s *sender) decide(ctx context.Context, n *session) (told bool) {
	for began := time.Now(); ; {
		err := s.hearNews(ctx)
		n.mutex.Lock()
		why := ""
		if n.stop.rule != nil && n.stop.watch.Stop != nil {
			why = n.stop.watch.Why(n.stop.objective, *n.stop.rule)
		}
		told := n.stop.told
		n.mutex.Unlock()
		switch {
		case told || ctx.Err() != nil:
			return true
		case why == "":
			return false
		case err != nil && !api.Is(err, api.LegClaimed) && !errors.Is(err, context.DeadlineExceeded) ||
			time.Since(began) > askTime: // one that is slow may answer yet
			n.tellStop(why)
			return true
		}
		time.Sleep(askPace)
	}
}

// errUnknown says that the service has not been reached yet, so that it knows of no run.
var errUnknown = errors.New("the service knows nothing of the run yet")

// hearNews shows life and hears what the service says.
func (s *sender) hearNews(ctx context.Context) error {
	s.mutex.Lock()
	leg := s.leg
	s.mutex.Unlock()
	if leg.Leg == 0 {
		return errUnknown
	}
	limited, cancel := context.WithTimeout(ctx, lifePace)
	defer cancel()
	news, err := client.Call(limited, s.connect(), api.ShowLife, &leg)
	if err == nil && s.session != nil && s.session.follow(news) {
		s.change(func(st *spool.State) { st.Objective, st.Rule = news.Objective, news.Rule })
	}
	if err == nil {
		s.warn(news.Warnings)
	}
	return err
}

// usualGrace is how long a program may take to end by itself where nothing else was said.
const usualGrace = 30 * time.Second

// endGently ends a program that goes on although the rule, or a person, says stop: it may end by itself for a while if
// it has spoken with the recorder, then SIGTERM, then SIGKILL.
func endGently(process *os.Process, knows bool, grace time.Duration, ended <-chan struct{}, say func(string, ...any)) {
	wait := func(d time.Duration) bool {
		select {
		case <-ended:
			return true
		case <-time.After(d):
			return false
		}
	}
	if knows && wait(grace) {
		return
	}
	say("the program is asked to end (SIGTERM)")
	if err := process.Signal(syscall.SIGTERM); (err == nil || errors.Is(err, os.ErrProcessDone)) && wait(grace) {
		return
	}
	say("the program did not end within %s; it is killed", grace)
	process.Kill()
}
