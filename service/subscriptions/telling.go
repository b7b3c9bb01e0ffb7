package subscriptions

import (
	"context"
	crand "crypto/rand"
	"errors"
	"math/rand/v2"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"kembrel/core/notice"
	"kembrel/store"
)

const (
	holdTime    = 30 * time.Second // a process that says nothing for so long serves no more
	holdPace    = 5 * time.Second
	lookPace    = 2 * time.Second // where no news came
	gatherTime  = 200 * time.Millisecond
	mostAtOnce  = 8               // messages to one receiver
	mostFails   = 5               // in a row: then it is only tried now and then
	longestRest = 5 * time.Minute // between those
)

// Wake has it looked for events at once: some were written.
func (s *Subscriptions) Wake() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// KeepTelling serves the subscriptions that no other process does, until ctx ends.
func (s *Subscriptions) KeepTelling(ctx context.Context) {
	select {
	case <-ctx.Done():
		return
	case <-s.known: // receivers are told how they reach the service
	}
	me := uuid.NewString()
	var serving sync.WaitGroup
	defer func() {
		serving.Wait()
		release, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		s.db.ReleaseSubscriptions(release, me)
	}()
	type served struct {
		wake chan struct{}
		stop context.CancelFunc
		done chan struct{}
	}
	all := map[int64]served{}
	hold := time.NewTicker(holdPace)
	defer hold.Stop()
	for {
		held, err := s.db.HoldSubscriptions(ctx, me, holdTime)
		if err != nil && ctx.Err() == nil {
			s.Log.Warn("subscriptions wait", "err", err)
		}
		now := map[int64]bool{}
		for _, id := range held {
			now[id] = true
			if _, there := all[id]; there {
				continue
			}
			alone, stop := context.WithCancel(ctx)
			v := served{make(chan struct{}, 1), stop, make(chan struct{})}
			all[id] = v
			serving.Go(func() {
				defer close(v.done)
				s.serve(alone, id, me, v.wake)
			})
		}
		for id, v := range all {
			ended := false
			select {
			case <-v.done:
				ended = true
			default:
			}
			if ended || err == nil && !now[id] {
				v.stop()
				delete(all, id)
			}
		}
		for again := false; !again; {
			select {
			case <-ctx.Done():
				return
			case <-hold.C:
				again = true
			case <-s.wake:
				for _, v := range all {
					select {
					case v.wake <- struct{}{}:
					default:
					}
				}
				again = len(all) == 0 // one was made, perhaps
			}
		}
	}
}

// serve tells one subscription until ctx ends or another process serves it.
func (s *Subscriptions) serve(ctx context.Context, id int64, me string, wake <-chan struct{}) {
	var rest time.Time // a receiver that takes nothing is left alone until then
	for ctx.Err() == nil {
		row, err := s.db.HeldSubscription(ctx, id, me)
		if errors.Is(err, store.ErrNone) {
			return
		}
		more := false
		if err == nil && (row.Fails < mostFails || !s.options.Clock().Before(rest)) {
			more, err = s.round(ctx, row, me)
			rest = s.options.Clock().Add(min(notice.Pause(row.Fails-mostFails+2, 0, rand.Float64()), longestRest))
		}
		if err != nil && ctx.Err() == nil {
			s.Log.Warn("a subscription waits", "project", row.Project, "subscription", row.Name, "err", err)
		}
		if more && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
		case <-wake:
			select { // more may come, of a service that is busy
			case <-ctx.Done():
			case <-time.After(gatherTime):
			}
		case <-time.After(lookPace):
		}
	}
}

// round tells what is due and what has happened since; more says that there is more to tell at once. What happens while
// it runs is told again where its end is not noted: at least once.
func (s *Subscriptions) round(ctx context.Context, row store.Subscription, me string) (more bool, err error) {
	failing := row.Fails >= mostFails
	limit := 4 * mostAtOnce
	if failing {
		limit = 1
	}
	due, err := s.db.DueDeliveries(ctx, row.ID, s.options.Clock(), limit)
	if err != nil {
		return false, err
	}
	p := &telling{Subscriptions: s, row: row, fails: row.Fails, now: s.options.Clock}
	if p.keys, err = s.db.SubscriptionKeys(ctx, row.ID); err != nil {
		return false, err
	}
	for _, d := range due {
		p.lines = append(p.lines, line{all: []store.DeliveryOf{d}})
	}
	p.all(ctx)
	mark := ""
	if len(due) == 0 || failing && p.fails >= mostFails {
		if mark, err = s.tellFresh(ctx, p, me, failing); err != nil {
			return false, err
		}
	}
	if ctx.Err() != nil {
		return false, ctx.Err() // as if it had not been
	}
	if len(p.out) == 0 && mark == "" {
		return false, nil
	}
	holds := true
	err = s.db.InTx(ctx, func(q Tx) error {
		if mark != "" {
			holds, err = q.TellUpTo(ctx, row.ID, me, mark, p.fails)
		} else {
			holds, err = q.FailsOf(ctx, row.ID, me, p.fails)
		}
		if err != nil || !holds {
			return err
		}
		if err := q.PutDeliveries(ctx, row.ID, p.out); err != nil {
			return err
		}
		if p.gone {
			return q.PauseSubscription(ctx, row.ID, true, pausedGone)
		}
		return nil
	})
	return holds && err == nil && p.fails < mostFails && !p.gone, err
}

// tellFresh tells what happened behind a subscription's mark, and returns the mark behind that; "": there was nothing.
// Where nothing was taken for long it is one event that is tried: as long as that is not taken either, the rest stays
// where it is.
func (s *Subscriptions) tellFresh(ctx context.Context, p *telling, me string, failing bool) (mark string, err error) {
	events, err := s.db.EventsAfter(ctx, p.row.Mark)
	if err != nil || len(events) == 0 {
		return "", err
	}
	fresh := &telling{Subscriptions: s, fails: p.fails, now: p.now}
	// read behind the events: what was changed of it before they happened holds for them
	if fresh.row, err = s.db.HeldSubscription(ctx, p.row.ID, me); errors.Is(err, store.ErrNone) {
		return "", nil
	}
	if err == nil {
		fresh.keys, err = s.db.SubscriptionKeys(ctx, p.row.ID)
	}
	if err != nil {
		return "", err
	}
	if fresh.lines, mark, err = s.fresh(ctx, fresh.row, events, failing); err != nil || mark == "" {
		return "", err
	}
	fresh.all(ctx)
	p.gone = p.gone || fresh.gone
	if failing && fresh.fails >= mostFails && len(fresh.lines) > 0 {
		return "", nil
	}
	p.fails, p.out = fresh.fails, append(p.out, fresh.out...)
	return mark, nil
}

// fresh are those of events that a subscription is to be told, by subject, and the mark behind them. What waits behind
// others of its subject comes as such. one: up to the first that does not.
func (s *Subscriptions) fresh(ctx context.Context, row store.Subscription, events []store.Told, one bool) (lines []line,
	mark string, err error) {
	waiting, err := s.db.WaitingSubjects(ctx, row.ID)
	if err != nil {
		return nil, "", err
	}
	behind := map[string]bool{}
	for _, subject := range waiting {
		behind[subject] = true
	}
	at := map[string]int{}
	for _, e := range events {
		mark = e.Mark()
		wanted, err := s.wants(ctx, row, e)
		if err != nil {
			return nil, "", err
		}
		if !wanted {
			continue
		}
		d := store.DeliveryOf{Delivery: store.Delivery{Event: e.ID, Subject: e.Subject, State: "waiting"}, Xact: e.Xact,
			Kind: e.Kind, Verb: e.Verb, OfProject: e.Project, Run: e.Run, Data: e.Data, Who: e.Who, At: e.At}
		i, known := at[e.Subject]
		if !known {
			i = len(lines)
			at[e.Subject] = i
			lines = append(lines, line{behind: behind[e.Subject]})
		}
		lines[i].all = append(lines[i].all, d)
		if one && !behind[e.Subject] {
			break
		}
	}
	return lines, mark, nil
}

// line are deliveries of one subject, in order; behind: others of it wait before them.
type line struct {
	behind bool
	all    []store.DeliveryOf
}

// telling is one round's sending.
type telling struct {
	*Subscriptions
	row  store.Subscription
	keys store.SubscriptionKeys
	now  func() time.Time

	lines []line

	mutex sync.Mutex
	tried int
	fails int
	gone  bool
	out   []store.Delivery
}

// all sends the lines of deliveries, each in order, several at once. Behind one that is not taken the rest of its
// line waits, and where nothing is taken any more, all that is left.
func (p *telling) all(ctx context.Context) {
	var group errgroup.Group
	group.SetLimit(mostAtOnce)
	for _, l := range p.lines {
		group.Go(func() error {
			stuck := l.behind
			for _, d := range l.all {
				done := d.Delivery
				switch {
				case stuck:
					done.Trouble = string(waitsBehind)
				case p.tired():
					done.Trouble, done.Next, stuck = string(tookNothing), p.soon(), true
				default:
					done = p.one(ctx, d)
					stuck = done.State == "waiting"
				}
				p.mutex.Lock()
				p.out = append(p.out, done)
				p.mutex.Unlock()
			}
			return nil
		})
	}
	group.Wait()
}

func (p *telling) soon() *time.Time {
	at := p.now().Add(notice.FirstPause)
	return &at
}

// tired reports whether the receiver has taken nothing so often that it is left alone. The first of a round is always
// tried.
func (p *telling) tired() bool {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.tried++
	return p.gone || p.fails >= mostFails && p.tried > 1
}

// one sends a delivery once.
func (p *telling) one(ctx context.Context, d store.DeliveryOf) store.Delivery {
	out, now := d.Delivery, p.now()
	if out.First == nil {
		out.First = &now
	}
	var a answer
	m, err := p.message(p.row, p.keys, d.Told(), now)
	if err != nil {
		a = answer{trouble: unsent, text: err.Error()}
	} else {
		a = p.send.post(ctx, p.row.URL, m)
	}
	out.Attempts++
	out.Last, out.Next, out.Status, out.Answer, out.Trouble = &now, nil, a.status, a.text, string(a.trouble)
	out.Took = int(a.took.Milliseconds())
	p.mutex.Lock()
	defer p.mutex.Unlock()
	switch {
	case a.taken():
		out.State, p.fails = "delivered", 0
	case notice.Hopeless(*out.First, now):
		out.State = "parked"
	default:
		next := now.Add(notice.Pause(out.Attempts, a.asks, rand.Float64()))
		out.State, out.Next = "waiting", &next
	}
	if !a.taken() {
		if d.Attempts == 0 || p.fails >= mostFails { // one that it never takes says nothing of the others
			p.fails++
		}
		p.gone = p.gone || a.gone
	}
	return out
}

// identity is what a receiver counts an event by.
func identity(event int64) string {
	if event == 0 { // it is tried
		return "try-" + crand.Text()
	}
	return strconv.FormatInt(event, 10)
}
