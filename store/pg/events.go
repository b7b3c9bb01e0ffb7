package pg

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Event is a change of state. Project, Run and Person are ids, 0 where none is meant.
type Event struct {
	Kind                 string
	Project, Run, Person int64
	What                 string
}

// Told is an event as the live stream tells it. Mark stands for its place in the order.
type Told struct {
	Xact    string
	ID      int64
	Kind    string
	Project string
	Run     int
	What    string
	Who     string
	At      time.Time
}

// Mark is the event's place, for EventsAfter.
func (t Told) Mark() string { return t.Xact + "-" + strconv.FormatInt(t.ID, 10) }

// AddEvent writes an event; it is seen when its transaction commits.
func (q Queries) AddEvent(ctx context.Context, e Event) error {
	id := func(v int64) *int64 {
		if v == 0 {
			return nil
		}
		return &v
	}
	_, err := q.exec(ctx, "event_add", A{"kind": e.Kind, "project": id(e.Project), "run": id(e.Run), "person": id(e.Person), "what": e.What})
	return err
}

// EventsAfter lists events behind a mark, at most 500. None is overtaken: events of transactions that began before one
// still open come first.
func (q Queries) EventsAfter(ctx context.Context, mark string) ([]Told, error) {
	xact, id, err := parseMark(mark)
	if err != nil {
		return nil, err
	}
	return list[Told](ctx, q, "event_after", A{"xact": xact, "id": id})
}

// EventsNow is the mark behind all events that EventsAfter would list.
func (q Queries) EventsNow(ctx context.Context) (string, error) {
	xact, err := value[string](ctx, q, "event_now", A{})
	return xact + "-0", err
}

func parseMark(mark string) (xact string, id int64, err error) {
	xact, number, _ := strings.Cut(mark, "-")
	if _, err := strconv.ParseUint(xact, 10, 63); err != nil {
		return "", 0, fmt.Errorf("event mark %.60q is none of ours", mark)
	}
	if id, err = strconv.ParseInt(number, 10, 64); err != nil {
		return "", 0, fmt.Errorf("event mark %.60q is none of ours", mark)
	}
	return xact, id, nil
}

// RunName is a run's address.
type RunName struct {
	ID      int64
	Project string
	Number  int
}

// RunNames returns the addresses of runs.
func (q Queries) RunNames(ctx context.Context, runs []int64) ([]RunName, error) {
	return list[RunName](ctx, q, "run_names", A{"runs": runs})
}

// channel is the NOTIFY channel; its payload is a kind letter and run ids only, far below the limit of 8000 bytes.
const channel = "kembrel"

// Tell wakes the listeners of all replicas with a short text.
func (s *Store) Tell(ctx context.Context, text string) error {
	_, err := s.pools[Jobs].Exec(ctx, "select pg_notify($1, $2)", channel, text)
	return err
}

// Listen calls heard for every text told, on a connection of its own, until ctx ends or the connection breaks. It calls
// heard with "" once it listens.
func (s *Store) Listen(ctx context.Context, heard func(text string)) error {
	pooled, err := s.pools[Jobs].Acquire(ctx)
	if err != nil {
		return err
	}
	conn := pooled.Hijack()
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "listen "+channel); err != nil {
		return err
	}
	heard("")
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		heard(n.Payload)
	}
}
