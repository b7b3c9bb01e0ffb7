package act

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/store"
)

// Live tells console and terminals what changes. Writers leave word (news, touch); tell passes it on to all replicas a
// few times a second through the database; listen hears it and serves the subscribers of this replica.
type Live struct {
	db  Storage
	log *slog.Logger

	// forget is called when rights have changed, here or at another replica, before those who listen begin anew.
	forget []func()

	// heard is called when events were written, here or at another replica.
	heard []func()

	mutex       sync.Mutex
	events      bool // some event was written
	touched     map[string]map[int64]bool
	subscribers map[*subscriber]bool
}

type subscriber struct {
	in  chan Told
	end chan struct{} // closed when it cannot keep up
}

// Told is a piece of news; Mark is set for events, which can be replayed from there.
type Told struct {
	Mark  string
	Event api.Event
}

const tellPace = 100 * time.Millisecond

// NewLive makes it; it works while Listen and Tell run.
func NewLive(db Storage, log *slog.Logger) *Live {
	return &Live{db: db, log: log, touched: map[string]map[int64]bool{}, subscribers: map[*subscriber]bool{}}
}

// News leaves word that events were written.
func (l *Live) News() {
	l.mutex.Lock()
	l.events = true
	l.mutex.Unlock()
}

// Touch leaves word that a run has new readings ("r"), summaries ("s") or output ("o").
func (l *Live) Touch(what string, run int64) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.touched[what] == nil {
		l.touched[what] = map[int64]bool{}
	}
	l.touched[what][run] = true
}

// Tell passes word on: "e" for events, "r12" and so on for runs, separated by spaces.
func (l *Live) Tell(ctx context.Context) {
	ticker := time.NewTicker(tellPace)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		l.mutex.Lock()
		var words []string
		if l.events {
			words = append(words, "e")
		}
		for what, runs := range l.touched {
			for run := range runs {
				words = append(words, what+strconv.FormatInt(run, 10))
			}
		}
		l.events, l.touched = false, map[string]map[int64]bool{}
		l.mutex.Unlock()
		for len(words) > 0 {
			n := min(len(words), 300) // 300 words of at most 21 bytes stay below NOTIFY's 8000
			if err := l.db.Tell(ctx, strings.Join(words[:n], " ")); err != nil && ctx.Err() == nil {
				l.log.Debug("live news wait", "err", err)
			}
			words = words[n:]
		}
	}
}

// Listen hears what is told until ctx ends, connecting again when the database was away.
func (l *Live) Listen(ctx context.Context) {
	heard := make(chan string, 1000)
	var hearing sync.WaitGroup
	defer hearing.Wait()
	hearing.Go(func() {
		for ctx.Err() == nil {
			err := l.db.Listen(ctx, func(text string) {
				select {
				case heard <- text:
				case <-ctx.Done():
				}
			})
			if ctx.Err() == nil {
				l.log.Warn("live news are interrupted; connecting again", "err", err)
				time.Sleep(300 * time.Millisecond)
			}
		}
	})
	mark := ""
	slow := time.NewTicker(time.Second) // an event held back by an older open transaction shows up here
	defer slow.Stop()
	for {
		var text string
		select {
		case <-ctx.Done():
			return
		case text = <-heard:
		case <-slow.C:
			text = "e"
		}
		if mark == "" {
			mark, _ = l.db.EventsNow(ctx)
		} else if text == "" {
			l.cutAll() // news of readings may have been missed: who reconnects reads them
		}
		var runs []string
		for _, word := range strings.Fields(text) {
			if word == "e" {
				mark = l.passEvents(ctx, mark)
			} else {
				runs = append(runs, word)
			}
		}
		if len(runs) > 0 {
			l.passTouches(ctx, runs)
		}
	}
}

func (l *Live) passEvents(ctx context.Context, mark string) string {
	changed := false
	defer func() {
		if changed {
			for _, forget := range l.forget {
				forget()
			}
			l.cutAll()
		}
	}()
	for mark != "" {
		events, err := l.db.EventsAfter(ctx, mark)
		if err != nil {
			return mark
		}
		for _, e := range events {
			mark = e.Mark()
			l.pass(toTold(e))
			changed = changed || changesRights(e)
		}
		if len(events) == 0 {
			break
		}
		for _, heard := range l.heard {
			heard()
		}
	}
	return mark
}

func toTold(e store.Told) Told { return Told{Mark: e.Mark(), Event: toEvent(e)} }

func toEvent(e store.Told) api.Event {
	return api.Event{ID: e.ID, Kind: e.Kind, Verb: e.Verb, Subject: e.Subject, Project: e.Project, Run: e.Run,
		Data: e.Data, Says: SayEvent(e.Verb, e.Data),
		Who: e.Who, At: e.At.UTC().Format(time.RFC3339Nano)}
}

// changesRights reports whether somebody may see more, or less, after an event: those who listen begin anew.
func changesRights(e store.Told) bool {
	switch e.Kind {
	case "role", "team":
		return true
	case "person":
		return e.Verb == "changed" || e.Verb == "closed"
	case "project":
		var data struct{ Open *bool }
		return json.Unmarshal(e.Data, &data) == nil && data.Open != nil
	}
	return false
}

func (l *Live) passTouches(ctx context.Context, words []string) {
	l.mutex.Lock()
	nobody := len(l.subscribers) == 0
	l.mutex.Unlock()
	if nobody {
		return
	}
	ids := make([]int64, len(words))
	for i, w := range words {
		ids[i], _ = strconv.ParseInt(w[1:], 10, 64)
	}
	names, err := l.db.RunNames(ctx, ids)
	if err != nil {
		return
	}
	byID := map[int64]store.RunName{}
	for _, n := range names {
		byID[n.ID] = n
	}
	for i, w := range words {
		if n, ok := byID[ids[i]]; ok {
			kind := map[byte]string{'r': "readings", 's': "summary", 'o': "output"}[w[0]]
			l.pass(Told{Event: api.Event{Kind: kind, Project: n.Project, Run: n.Number}})
		}
	}
}

func (l *Live) pass(t Told) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	for s := range l.subscribers {
		select {
		case s.in <- t:
		default: // too slow: it is cut off, and replays when it comes back
			delete(l.subscribers, s)
			close(s.end)
		}
	}
}

func (l *Live) cutAll() {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	for s := range l.subscribers {
		delete(l.subscribers, s)
		close(s.end)
	}
}

// Subscribe calls each for all news that in asks for until ctx ends, each fails, or the caller is too slow. It first
// calls hello with the mark from which the stream goes on, then replays what came after in.Last.
func (s *Act) Subscribe(ctx context.Context, in *api.EventsInput, hello func(mark string) error,
	each func(Told) error) error {
	sub := &subscriber{in: make(chan Told, 256), end: make(chan struct{})}
	s.Live.mutex.Lock()
	s.Live.subscribers[sub] = true
	s.Live.mutex.Unlock()
	defer func() {
		s.Live.mutex.Lock()
		delete(s.Live.subscribers, sub)
		s.Live.mutex.Unlock()
	}()
	mark := in.Last
	if mark == "" {
		var err error
		if mark, err = s.db.EventsNow(ctx); err != nil {
			return err
		}
	}
	replay, err := s.db.EventsAfter(ctx, mark)
	if errors.Is(err, store.ErrMark) {
		return api.Fail(api.Invalid, "Last-Event-ID %.60q is not an id that this service gives out", mark)
	}
	if err != nil {
		return err
	}
	if err := hello(mark); err != nil {
		return err
	}
	for len(replay) > 0 {
		for _, e := range replay {
			mark = e.Mark()
			if t := toTold(e); wants(in, t.Event) && s.mayHear(ctx, t.Event) {
				if err := each(t); err != nil {
					return err
				}
			}
		}
		if replay, err = s.db.EventsAfter(ctx, mark); err != nil {
			return err
		}
	}
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-sub.end:
			return fmt.Errorf("too slow")
		case t := <-sub.in:
			if t.Mark != "" && !after(t.Mark, mark) || !wants(in, t.Event) || !s.mayHear(ctx, t.Event) {
				continue
			}
			if err := each(t); err != nil {
				return err
			}
		}
	}
}

// mayHear reports whether whoever listens may see what an event is of; those of no project are for administrators.
func (s *Act) mayHear(ctx context.Context, e api.Event) bool {
	if e.Project == "" {
		who, _ := Asks(ctx)
		return itself(ctx) || who.OnService() >= api.Administrator
	}
	sees, err := s.Sees(ctx, e.Project)
	return sees && err == nil
}

func wants(in *api.EventsInput, e api.Event) bool {
	return (in.Project == "" || in.Project == e.Project) && (in.Run == 0 || in.Run == e.Run)
}

// after compares two marks "xact-id" by their numbers.
func after(a, b string) bool {
	ax, ai, _ := strings.Cut(a, "-")
	bx, bi, _ := strings.Cut(b, "-")
	if len(ax) != len(bx) {
		return len(ax) > len(bx)
	}
	if ax != bx {
		return ax > bx
	}
	return len(ai) > len(bi) || len(ai) == len(bi) && ai > bi
}
