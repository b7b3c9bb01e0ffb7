package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// Limits of work.
const (
	answerTime = 20 * time.Second // after which a request is answered though its work is not done

	doTime   = 2 * time.Hour    // of one piece, its turn included
	beatPace = 2 * time.Second  // how often a replica says that it still does a piece
	patience = 30 * time.Second // without a word, after which another replica takes it up
	pickPace = 10 * time.Second // how often what others left is looked for
	lookPace = 200 * time.Millisecond
	mostHere = 64 // pieces under way in a replica, those that wait for their turn included
	mostTry  = 3  // times that a piece is begun, if the replicas that do it end without a word
)

// Storage is what this needs of the store.
type Storage interface {
	AddWork(ctx context.Context, w store.Work) error
	BeatWork(ctx context.Context, key, holder string, progress float64) (bool, error)
	BeginWork(ctx context.Context, key, holder string) (tries int, err error)
	ClaimWork(ctx context.Context, key, holder string, patience time.Duration) (store.Work, error)
	ClearWork(ctx context.Context) error
	DropWork(ctx context.Context, key string) error
	EndWork(ctx context.Context, key, holder string, result, problem json.RawMessage) error
	FindWork(ctx context.Context, key string) (store.Work, error)
	LeftWork(ctx context.Context, patience time.Duration) ([]string, error)
	ReleaseWork(ctx context.Context, key, holder string, begun bool) error
	RunWork(ctx context.Context, run int64, kind string) ([]store.Work, error)
}

// Do does a piece of work of one kind, on behalf of the person who sent it, and returns what is kept as its result.
// It may be called again after the process has died in the middle. at takes how far it is, from 0 to 1.
type Do func(ctx context.Context, w store.Work, at func(float64)) (result any, err error)

// Work is the work that this replica accepts and does.
type Work struct {
	*act.Act
	db     Storage
	holder string
	answer time.Duration

	ctx   context.Context
	close context.CancelFunc
	all   sync.WaitGroup

	mutex sync.Mutex
	kinds map[string]kind
	here  map[string]*piece
}

// kind is how work of one kind is done.
type kind struct {
	do    Do
	turns chan struct{} // one for each piece that is being done
}

// piece is a piece of work that this replica has.
type piece struct {
	done  chan struct{}
	begun bool          // its turn has come
	at    atomic.Uint64 // bits of a float64
}

func (p *piece) progress() float64 { return math.Float64frombits(p.at.Load()) }

// New returns an empty Work. Each kind has to be known before Keep is called.
func New(a *act.Act, db Storage) *Work {
	w := &Work{Act: a, db: db, holder: uuid.NewString(), answer: answerTime, kinds: map[string]kind{},
		here: map[string]*piece{}}
	w.ctx, w.close = context.WithCancel(context.Background())
	return w
}

// Kind sets how work of a kind is done, and how many pieces of it a replica does at once, which bounds memory.
func (w *Work) Kind(name string, atOnce int, do Do) {
	w.kinds[name] = kind{do, make(chan struct{}, atOnce)}
}

// Request begins a piece of work, or finds it by its key, and waits for it up to answerTime. It returns the piece as it
// is then: Ended is nil where it is not done. A piece that failed returns its problem as the error, once: the same
// request begins it again.
func (w *Work) Request(ctx context.Context, of store.Work) (store.Work, error) {
	row, err := w.db.FindWork(ctx, of.Key)
	if errors.Is(err, store.ErrNone) {
		if w.full() {
			return row, api.Fail(api.TooMany, "%d large requests are being worked on; send this again in a minute",
				mostHere)
		}
		if err = w.db.AddWork(ctx, of); err == nil {
			row, err = w.db.FindWork(ctx, of.Key)
		}
	}
	if err != nil {
		return row, err
	}
	if row.Kind != of.Kind || act.Deref(row.Run) != act.Deref(of.Run) {
		return row, api.Fail(api.Conflict, "this key was used for another request")
	}
	if row.Ended == nil {
		w.pick(of.Key)
		if row, err = w.wait(ctx, row); err != nil {
			return row, err
		}
	}
	if row.Ended == nil || row.Problem == nil {
		return row, nil
	}
	var problem api.Problem
	if err := json.Unmarshal(row.Problem, &problem); err != nil {
		return row, err
	}
	if err := w.db.DropWork(ctx, of.Key); err != nil {
		return row, err
	}
	return row, &problem
}

// wait waits until a piece has ended, but no longer than answerTime.
func (w *Work) wait(ctx context.Context, row store.Work) (store.Work, error) {
	late := time.After(w.answer)
	for {
		w.mutex.Lock()
		here := w.here[row.Key]
		w.mutex.Unlock()
		var done chan struct{}
		var look <-chan time.Time
		if here != nil {
			done = here.done
		} else {
			look = time.After(lookPace) // another replica does it, or will
		}
		over := false
		select {
		case <-done:
		case <-look:
		case <-ctx.Done():
			return row, ctx.Err()
		case <-late:
			over = true
		}
		again, err := w.db.FindWork(ctx, row.Key)
		if err != nil {
			if errors.Is(err, store.ErrNone) { // another request of this key has its problem, or its run is deleted
				err = api.Fail(api.Unavailable, "the result was given to another request with this key; send it again")
			}
			return row, err
		}
		if row = again; row.Ended != nil || over {
			return row, nil
		}
	}
}

// Of lists what is being done of a kind on a run, the latest first.
func (w *Work) Of(ctx context.Context, run int64, kind string) ([]store.Work, error) {
	return w.db.RunWork(ctx, run, kind)
}

func (w *Work) full() bool {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return len(w.here) >= mostHere
}

// pick has this replica do a piece, unless another does.
func (w *Work) pick(key string) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.here[key] != nil || len(w.here) >= mostHere || w.ctx.Err() != nil {
		return
	}
	p := &piece{done: make(chan struct{})}
	w.here[key] = p
	w.all.Go(func() {
		defer func() {
			w.mutex.Lock()
			delete(w.here, key)
			w.mutex.Unlock()
			close(p.done)
		}()
		if err := w.do(act.ByItself(db.In(w.ctx, db.Jobs)), key, p); err != nil && w.ctx.Err() == nil {
			w.Log.Warn("work that a request began waits", "key", key, "err", err)
		}
	})
}

// do does a piece that is nobody's.
func (w *Work) do(ctx context.Context, key string, p *piece) error {
	row, err := w.db.ClaimWork(ctx, key, w.holder, patience)
	if errors.Is(err, store.ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	limited, stop := context.WithTimeout(ctx, doTime)
	defer stop()
	var beating sync.WaitGroup
	beating.Go(func() { w.beat(limited, stop, row, p) })
	result, err := w.run(limited, row, p)
	late := errors.Is(limited.Err(), context.DeadlineExceeded)
	lost := limited.Err() != nil && !late && ctx.Err() == nil
	stop()
	beating.Wait()
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	switch {
	case lost: // another replica has it, or its run is gone
		return nil
	case err != nil && (ctx.Err() != nil || db.Away(err) || errors.Is(err, errKind)):
		return errors.Join(err, w.db.ReleaseWork(ending, key, w.holder, p.begun))
	case err != nil && late:
		err = api.Fail(api.TooCostly, "it took longer than %s", doTime)
	}
	var made, problem json.RawMessage
	if err != nil {
		if problem, err = json.Marshal(w.Problem(err)); err != nil {
			return err
		}
	} else if made, err = json.Marshal(result); err != nil {
		return err
	}
	return w.db.EndWork(ending, key, w.holder, made, problem)
}

// errKind is of work that only a later version knows.
var errKind = errors.New("unknown kind of work")

// run does a piece when its turn comes. A fault of ours ends that piece alone.
func (w *Work) run(ctx context.Context, row store.Work, p *piece) (result any, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("fault: %v", r)
		}
	}()
	kind, known := w.kinds[row.Kind]
	if !known {
		return nil, errKind
	}
	select {
	case kind.turns <- struct{}{}:
		defer func() { <-kind.turns }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if row.Tries, err = w.db.BeginWork(ctx, row.Key, w.holder); err != nil {
		return nil, err
	}
	if p.begun = true; row.Tries > mostTry {
		return nil, api.Fail(api.TooCostly, "the service stopped %d times while it was working on this; "+
			"send less at once, or ask an administrator to check its log", mostTry)
	}
	return kind.do(ctx, row, func(at float64) { p.at.Store(math.Float64bits(min(max(at, p.progress()), 1))) })
}

// beat says every now and then that a piece is being done, and stops it where it is no longer this replica's.
func (w *Work) beat(ctx context.Context, stop func(), row store.Work, p *piece) {
	t := time.NewTicker(beatPace)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		mine, err := w.db.BeatWork(ctx, row.Key, w.holder, p.progress())
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			w.Log.Warn("saying how far work is", "key", row.Key, "err", err)
		case !mine:
			stop()
			return
		}
	}
}

// PickLeft takes up what no replica does, and forgets what ended long ago.
func (w *Work) PickLeft(ctx context.Context) error {
	left, err := w.db.LeftWork(ctx, patience)
	if err != nil {
		return err
	}
	for _, key := range left {
		w.pick(key)
	}
	return w.db.ClearWork(ctx)
}

// Keep takes up what other replicas left, until ctx ends; then it gives back what it has not finished.
func (w *Work) Keep(ctx context.Context) {
	t := time.NewTicker(pickPace)
	defer t.Stop()
	for {
		if err := w.PickLeft(ctx); err != nil && ctx.Err() == nil {
			w.Log.Warn("looking for work that was left", "err", err)
		}
		select {
		case <-ctx.Done():
			w.close()
			w.all.Wait()
			return
		case <-t.C:
		}
	}
}
