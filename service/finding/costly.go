package finding

import (
	"context"
	"fmt"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/service/act"
	"kembrel/store/pg/db"
)

// Lists whose conditions people write can cost the database anything. They go over connections of their own, each
// person has a few at a time, and each is given up after some seconds, so that nobody takes the lists from the others.

const (
	mostWeight = 400             // of condition, order and columns of one request (filter.Node.Weight)
	mostLists  = 2               // of one person at a time
	listWait   = 5 * time.Second // for one's own others
)

// Asked is an expression of a request, and where it stands.
type Asked struct {
	field string // where, sort, column 3
	text  string
	node  *filter.Node
}

// AskedBy collects the expressions of a request.
func AskedBy(in api.RunChoice, where, sort *filter.Node, columns []*filter.Node, texts []string) []Asked {
	list := []Asked{{"where", in.Where, where}, {"sort", in.Sort, sort}}
	for i, n := range columns {
		list = append(list, Asked{fmt.Sprintf("column %d", i+1), texts[i], n})
	}
	return list
}

// heaviest is the expression that costs most; "" where none is given.
func heaviest(list []Asked) (says string, total int) {
	most := 0
	for _, a := range list {
		w := a.node.Weight()
		if total += w; w > most {
			most, says = w, fmt.Sprintf("%s (%.80s)", a.field, a.text)
		}
	}
	return says, total
}

// Costly does what expressions ask of the database, in the caller's turn and within the time for lists. What takes too
// long is a problem that names the expression which costs most.
func (s *Finder) Costly(ctx context.Context, list []Asked, do func(context.Context) error) error {
	says, total := heaviest(list)
	if total > mostWeight {
		return api.Fail(api.TooCostly,
			"the condition, order and columns ask for too much at once (%d of at most %d); the largest is %s",
			total, mostWeight, says)
	}
	who, asks := act.Asks(ctx)
	if !asks || who.ID == 0 {
		return do(ctx)
	}
	done, err := s.turns.take(ctx, who.ID)
	if err != nil {
		return err
	}
	defer done()
	err = do(db.In(ctx, db.Lists))
	if db.TooCostly(err) && ctx.Err() == nil {
		if says == "" {
			says = "the list itself"
		}
		s.Log.Warn("a list took too long", "person", who.Name, "says", says)
		return api.Fail(api.TooCostly,
			"the database took longer than %s. What costs most is %s: narrow it, or ask for fewer columns or runs",
			db.ListTime, says)
	}
	return OrOutOfRange(err)
}

// turns are the lists that people have under way.
type turns struct {
	mutex sync.Mutex
	of    map[int64]*turn
}

type turn struct {
	places chan struct{}
	users  int // that have a place or wait for one
}

// take waits for a place among a person's lists; done gives it back.
func (t *turns) take(ctx context.Context, person int64) (done func(), err error) {
	t.mutex.Lock()
	if t.of == nil {
		t.of = map[int64]*turn{}
	}
	own := t.of[person]
	if own == nil {
		own = &turn{places: make(chan struct{}, mostLists)}
		t.of[person] = own
	}
	own.users++
	t.mutex.Unlock()
	leave := func() {
		t.mutex.Lock()
		defer t.mutex.Unlock()
		if own.users--; own.users == 0 {
			delete(t.of, person)
		}
	}
	late := time.NewTimer(listWait)
	defer late.Stop()
	select {
	case own.places <- struct{}{}:
		return func() { <-own.places; leave() }, nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-late.C:
		err = api.Fail(api.TooMany, "%d lists of yours are under way; wait for them", mostLists)
	}
	leave()
	return nil, err
}
