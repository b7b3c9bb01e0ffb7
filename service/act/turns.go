package act

import (
	"context"
	"sync"
	"time"

	"kembrel/api"
)

// turnWait is how long a request waits for the same person's others.
const turnWait = 5 * time.Second

// Turns bounds how many costly requests of a kind each person has under way, so that nobody takes the service from the
// others.
type Turns struct {
	most  int
	what  string // the requests, for people: lists
	mutex sync.Mutex
	of    map[int64]*turn
}

type turn struct {
	places chan struct{}
	users  int // that have a place or wait for one
}

// NewTurns bounds requests, called what, to most of a person at a time.
func NewTurns(most int, what string) *Turns {
	return &Turns{most: most, what: what, of: map[int64]*turn{}}
}

// Take waits for a place among a person's requests; done gives it back.
func (t *Turns) Take(ctx context.Context, person int64) (done func(), err error) {
	t.mutex.Lock()
	own := t.of[person]
	if own == nil {
		own = &turn{places: make(chan struct{}, t.most)}
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
	late := time.NewTimer(turnWait)
	defer late.Stop()
	select {
	case own.places <- struct{}{}:
		return func() { <-own.places; leave() }, nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-late.C:
		err = api.Fail(api.TooMany, "%d of your %s are under way; wait for them", t.most, t.what)
	}
	leave()
	return nil, err
}
