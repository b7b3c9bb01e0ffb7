package recorder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/client"
	"kembrel/recorder/spool"
)

// Limits of one batch, and how long readings are gathered for it.
const (
	batchReadings = 50_000
	batchPoints   = 20_000
	gatherTime    = 150 * time.Millisecond
	lifePace      = 5 * time.Second
	callTime      = 60 * time.Second
)

// sender brings a spool to the service. It may be stopped and begun again, in this process or another, at any point.
type sender struct {
	spool   *spool.Spool
	connect func() *client.Client // with the credentials of the moment
	say     func(format string, args ...any)
	named   func(run string, leg int) // the service has given the run its address
	session *session                  // nil where the program is long gone
	advise  func(why string)          // the program should stop
	over    func() bool               // the program has ended: what the spool holds is all

	cutOff   *spool.Ending   // the leg's end where the spool holds none
	takeOver bool            // open the leg although the one before is still heard of
	warned   map[string]bool // what the service warned of and has been said

	reached       atomic.Pointer[client.Client] // with the credentials of the latest try; several send at once
	leg           api.LegInput                  // guarded by mutex while it is opened
	numbers       map[string]int                // of curves
	refusedCurves map[string]error              // curves that the service does not take
	counted       api.Counted
	progress      atomic.Int64 // rises with everything that the service has taken
	readings      atomic.Int64 // sent
	stored        atomic.Int64 // checkpoints sent
	sheets        atomic.Int64 // and what else
	files         atomic.Int64
	snapshots     atomic.Int64
	others        atomic.Int64 // records of other kinds
	chunks        atomic.Int64 // bytes of chunks sent
	settled       atomic.Int64 // bytes of chunks that the service has, of checkpoints that are not committed
	away          atomic.Bool  // the service did not answer the last time
	full          atomic.Bool  // the service has no room for checkpoints

	evaluation *api.Evaluation // as the service has it, where the spool keeps one

	coming chan spool.Manifest // checkpoints that are being made durable; nil: none comes

	mutex   sync.Mutex // guards what follows
	state   spool.State
	early   *early        // the latest that came
	aside   error         // the latest that was refused for good
	remarks []api.NewNote // to be left on the run
}

// errRefused says that the service will not take this spool until a person does something.
var errRefused = errors.New("the service refuses it")

// send sends what the spool holds and will hold until over, then ends the leg if its end is recorded. A nil error means
// that the service has everything. It waits for a service that does not answer as long as ctx lasts.
func (s *sender) send(ctx context.Context) error {
	s.state = s.spool.State()
	if s.spool.Leg.Evaluation != nil {
		return s.refused(ctx, s.sendEvaluation(ctx))
	}
	if err := s.openLeg(ctx); err != nil {
		return s.refused(ctx, err)
	}
	alive, fail := context.WithCancelCause(ctx)
	defer fail(nil)
	group, working := errgroup.WithContext(alive)
	go s.showLife(working, fail)
	manifests := make(chan spool.Manifest, 1<<16)
	var ending *spool.Ending
	group.Go(func() (err error) {
		defer close(manifests)
		ending, err = s.sendRecords(working, manifests)
		return err
	})
	sheets := make(chan spool.Manifest, 1<<16)
	group.Go(func() error {
		defer close(sheets)
		return s.sendAllHanded(working, manifests, sheets)
	})
	lane, assessed := errgroup.WithContext(alive)
	lane.Go(func() error { return s.sendSheets(assessed, sheets) })
	group.Go(func() error { return s.sendOutputs(working) })
	if s.coming != nil {
		ending, stop := context.WithCancel(working)
		defer stop()
		go s.sendEarly(ending)
	}
	err := group.Wait()
	if err == nil && ending == nil {
		ending = s.cutOff
	}
	if err == nil && ending != nil {
		err = s.sendEnd(alive, *ending)
	}
	if err != nil {
		fail(err) // the lane ends too
	}
	if wrong := lane.Wait(); err == nil {
		err = wrong
	}
	if cause := context.Cause(alive); err != nil && cause != nil && ctx.Err() == nil {
		err = cause
	}
	if err == nil {
		err = s.leftAside()
	}
	return s.refused(ctx, err)
}

// leftAside is why the spool is still needed when everything else is sent; nil: it is not.
func (s *sender) leftAside() error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.aside
}

// refused notes in the spool why the service will not have it.
func (s *sender) refused(ctx context.Context, err error) error {
	if err == nil || ctx.Err() != nil {
		return err
	}
	s.change(func(st *spool.State) { st.Why = err.Error() })
	return fmt.Errorf("%w: %w", errRefused, err)
}

// via is the client that calls go by; renew takes the credentials of the moment for those to come.
func (s *sender) via() *client.Client {
	if c := s.reached.Load(); c != nil {
		return c
	}
	return s.renew()
}

func (s *sender) renew() *client.Client {
	c := s.connect()
	s.reached.Store(c)
	return c
}

func (s *sender) change(do func(*spool.State)) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	do(&s.state)
	s.spool.SetState(s.state) // where it cannot be noted, the service is asked
}

// try calls until the service takes it or refuses it for good.
func (s *sender) try(ctx context.Context, call func(context.Context) error) error {
	return s.tryWithin(ctx, callTime, call)
}

// tryWithin is try with a limit of its own to a call.
func (s *sender) tryWithin(ctx context.Context, limit time.Duration, call func(context.Context) error) error {
	pause := 200 * time.Millisecond
	for {
		limited, cancel := context.WithTimeout(ctx, limit)
		err := call(limited)
		cancel()
		if err == nil {
			s.progress.Add(1)
			if s.away.Swap(false) {
				s.say("the service answers again")
			}
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !temporary(err) {
			return err
		}
		if api.Is(err, api.NoRoom) { // readings still go
			if !s.full.Swap(true) {
				s.say("%v", err)
			}
		} else if !s.away.Swap(true) {
			s.say("%v; everything waits in the spool meanwhile", err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause + rand.N(pause/2)):
		}
		pause = min(2*pause, 5*time.Second)
		s.renew()
	}
}

// temporary reports whether waiting may help, be it for the service or for a person who signs in again.
func temporary(err error) bool {
	for _, k := range []api.Kind{api.Unavailable, api.Internal, api.TooSlow, api.TooMany, api.SignedOut, api.NoRoom} {
		if api.Is(err, k) {
			return true
		}
	}
	return errors.Is(err, client.ErrAway) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, io.ErrUnexpectedEOF)
}

func (s *sender) openLeg(ctx context.Context) error {
	s.renew()
	l := s.spool.Leg
	number := l.Number
	if number == 0 && api.CheckProjectKey(l.Project) != nil {
		return noProject(l.Project)
	}
	if number == 0 {
		var err error
		if number, err = s.beginRun(ctx); err != nil {
			return fmt.Errorf("begin the run: %w", err)
		}
	}
	address := api.Address{Project: l.Project, Run: number}.String()
	open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: l.Project},
		Number: number}, Key: l.LegKey}
	if l.Resumed != nil {
		open.Body.From, open.Body.Parts, open.Body.TakeOver, open.Body.More = l.Resumed.From, l.Resumed.Parts,
			s.takeOver, l.More
	}
	open.Body.Recorder, open.Body.Previous, open.Body.Host, open.Body.Started = s.spool.Recorder, s.spool.Previous,
		l.Recipe.Host, l.Started
	if err := s.try(ctx, func(ctx context.Context) error {
		counted, err := client.Call(ctx, s.via(), api.OpenLeg, open)
		if err == nil {
			s.counted = *counted
		}
		return err
	}); err != nil {
		return fmt.Errorf("open the leg: %w", err)
	}
	if err := s.spool.Known(); err != nil {
		s.say("cannot note who records: %v", withoutPath(err))
	}
	s.mutex.Lock()
	s.leg = api.LegInput{RunInput: open.RunInput, Leg: s.counted.Leg, Recorder: s.spool.Recorder}
	s.mutex.Unlock()
	s.numbers, s.refusedCurves = map[string]int{}, map[string]error{}
	s.change(func(st *spool.State) {
		st.Run, st.Leg, st.Batch, st.Upto, st.Why = address, s.counted.Leg, s.counted.Batch, s.counted.Upto, ""
	})
	s.named(address, s.counted.Leg)
	return nil
}

// tellProgress says now and then how far sending is, until ctx ends.
func (s *sender) tellProgress(ctx context.Context) {
	ticker := time.NewTicker(2 * time.Second)
	defer ticker.Stop()
	began, from := time.Now(), s.chunks.Load()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			s.say("%s", sayProgress(s.readings.Load(), s.stored.Load(), s.chunks.Load(),
				s.spool.Waiting()-s.settled.Load(), time.Since(began), s.chunks.Load()-from))
		}
	}
}

// sayProgress says how far sending is: what is sent, what is left, and how long that takes at the rate of the time
// seen.
func sayProgress(readings, checkpoints, chunks, left int64, seen time.Duration, sent int64) string {
	text := fmt.Sprintf("sending; %d readings, %d checkpoints and %s of chunks so far", readings, checkpoints,
		api.Bytes(chunks))
	if left <= 0 {
		return text
	}
	text += fmt.Sprintf("; %s at most to go", api.Bytes(left))
	if rate := float64(sent) / seen.Seconds(); rate > 1 {
		text += fmt.Sprintf(", at %s a second in about %s", api.Bytes(int64(rate)),
			time.Duration(float64(left)/rate*float64(time.Second)).Round(time.Second))
	}
	return text
}

// showLife tells the service every few seconds that the leg lives, and gives up where another recorder has taken it.
func (s *sender) showLife(ctx context.Context, fail context.CancelCauseFunc) {
	ticker := time.NewTicker(lifePace)
	defer ticker.Stop()
	for first := true; ; first = false {
		if !first {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
		}
		err := s.hearNews(ctx)
		if api.Is(err, api.LegClaimed) {
			s.advise(err.Error())
			fail(err)
			return
		}
	}
}

// sendRecords sends the records in batches as they come, passes checkpoints on, and returns the recorded end, or nil
// when the program is over without one.
func (s *sender) sendRecords(ctx context.Context, manifests chan<- spool.Manifest) (*spool.Ending, error) {
	reader, passed := s.spool.Reader(), int64(0)
	for {
		over := s.over() // asked before reading: what comes after the answer is read next time
		if err := s.sendRemarks(ctx); err != nil {
			return nil, err
		}
		p := pending{}
		var ending *spool.Ending
		size, _ := s.spool.Size()
		for ending == nil && p.builder.Len() < batchReadings && p.builder.Points() < batchPoints {
			record, err := reader.Next(size)
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return nil, err
			}
			fresh := record.Number > passed // not seen before a step back
			passed = max(passed, record.Number)
			switch record.Kind {
			case spool.Checkpoint, spool.Sheet, spool.File, spool.Items:
				var m spool.Manifest
				if err := json.Unmarshal(record.Body, &m); err != nil {
					return nil, fmt.Errorf("record %d: %w", record.Number, err)
				}
				if fresh {
					manifests <- m
				}
			case spool.Training:
				if fresh {
					manifests <- spool.Manifest{}
				}
			case spool.End:
				ending = &spool.Ending{}
				if err := json.Unmarshal(record.Body, ending); err != nil {
					return nil, fmt.Errorf("record %d: %w", record.Number, err)
				}
			default:
				if record.Number <= s.counted.Upto || record.Kind == spool.Said {
					continue
				}
				s.add(&p, record)
			}
		}
		if len(p.records) > 0 {
			inStep, err := s.sendBatch(ctx, p)
			if err != nil {
				return nil, err
			}
			if !inStep {
				reader = s.spool.Reader()
				continue
			}
		}
		if ending != nil {
			return ending, nil
		}
		if len(p.records) > 0 {
			continue
		}
		if over {
			return nil, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lifePace):
		case <-s.spool.Changed():
			time.Sleep(gatherTime)
		}
	}
}

// sendEnd ends the leg. Words that the service refuses are left out.
func (s *sender) sendEnd(ctx context.Context, e spool.Ending) error {
	if err := s.sendRemarks(ctx); err != nil {
		return err
	}
	in := &api.EndInput{LegInput: s.leg}
	call := func() error {
		in.Body.State, in.Body.At, in.Body.ExitCode, in.Body.Signal, in.Body.Why, in.Body.Tail = e.State, e.At,
			e.ExitCode, e.Signal, e.Why, e.Tail
		return s.tryItem(ctx, func(ctx context.Context) error {
			_, err := client.Call(ctx, s.via(), api.EndLeg, in)
			return err
		})
	}
	err := call()
	for _, leave := range []func(){func() { e.Tail = "" }, func() { e.Why = "" },
		func() { e.Signal, e.ExitCode = "", nil }} {
		if !ofItem(err) {
			break
		}
		leave()
		err = call()
	}
	return err
}
