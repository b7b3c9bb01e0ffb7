package act

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// AddEvent writes an event; it is seen when its transaction commits.
func (q Queries) AddEvent(ctx context.Context, e store.Event) error {
	id := func(v int64) *int64 {
		if v == 0 {
			return nil
		}
		return &v
	}
	if e.Data == nil {
		e.Data = map[string]any{}
	}
	_, err := q.Exec(ctx, "event_add", db.A{"kind": e.Kind, "verb": e.Verb, "subject": e.Subject,
		"project": id(e.Project), "run": id(e.Run),
		"person": id(e.Person), "data": e.Data, "place": e.Place})
	return err
}

// RunOf is the project and the address of a run.
func (q Queries) RunOf(ctx context.Context, run int64) (project int64, address string, err error) {
	r, err := db.One[struct {
		ID, Project int64
		Key         string
		Number      int
	}](ctx, q, "run_of", db.A{"run": run})
	return r.Project, fmt.Sprintf("%s/%d", r.Key, r.Number), err
}

// ProjectPlace finds a project as rights see it.
func (q Queries) ProjectPlace(ctx context.Context, key string) (store.Place, error) {
	return db.One[store.Place](ctx, q, "project_place", db.A{"key": key})
}

// RunMaker is who made a run.
func (q Queries) RunMaker(ctx context.Context, project string, number int) (int64, error) {
	return db.Value[int64](ctx, q, "run_maker", db.A{"project": project, "number": number})
}

// EventsAfter lists events behind a mark, at most 500. None is overtaken: events of transactions that began before one
// still open come first.
func (q Queries) EventsAfter(ctx context.Context, mark string) ([]store.Told, error) {
	xact, id, err := parseMark(mark)
	if err != nil {
		return nil, err
	}
	return db.List[store.Told](ctx, q, "event_after", db.A{"xact": xact, "id": id})
}

// EventsNow is the mark behind all events that EventsAfter would list.
func (q Queries) EventsNow(ctx context.Context) (string, error) {
	xact, err := db.Value[string](ctx, q, "event_now", db.A{})
	return xact + "-0", err
}

func parseMark(mark string) (xact string, id int64, err error) {
	xact, number, _ := strings.Cut(mark, "-")
	if _, err := strconv.ParseUint(xact, 10, 63); err != nil {
		return "", 0, fmt.Errorf("%w: %.60q", store.ErrMark, mark)
	}
	if id, err = strconv.ParseInt(number, 10, 64); err != nil {
		return "", 0, fmt.Errorf("%w: %.60q", store.ErrMark, mark)
	}
	return xact, id, nil
}

// RunNames returns the addresses of runs.
func (q Queries) RunNames(ctx context.Context, runs []int64) ([]store.RunName, error) {
	return db.List[store.RunName](ctx, q, "run_names", db.A{"runs": runs})
}

// channel is the NOTIFY channel; its payload is a kind letter and run ids only, far below the limit of 8000 bytes.
const channel = "kembrel"

// Tell wakes the listeners of all replicas with a short text.
func (s *Store) Tell(ctx context.Context, text string) error {
	_, err := s.Lane(db.Jobs).Exec(ctx, "select pg_notify($1, $2)", channel, text)
	return err
}

// Listen calls heard for every text told, on a connection of its own, until ctx ends or the connection breaks. It calls
// heard with "" once it listens.
func (s *Store) Listen(ctx context.Context, heard func(text string)) error {
	pooled, err := s.Lane(db.Jobs).Acquire(ctx)
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
