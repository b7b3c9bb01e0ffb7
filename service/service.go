package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"kembrel/api"
	"kembrel/core/space"
	"kembrel/store"
	"kembrel/store/blob"
	"kembrel/store/pack"
	"kembrel/store/pg"
)

// Options are what a service needs to know beside its stores.
type Options struct {
	Log       *slog.Logger
	LostAfter time.Duration // a run without a sign of life for so long is lost
	Version   string
	Alone     bool          // no other process serves this database and blob store
	SealAfter time.Duration // readings lie in the journal for so long before they are packed into blocks; 0: 3 minutes
}

// Service answers every operation of the API.
type Service struct {
	db          *pg.Store
	readings    store.Readings
	chunks      *pack.Packs
	options     Options
	live        *live
	watches     watches
	unjudged    unjudged
	tries       *tries
	credentials credentials
	runs        remembered[api.RunInput, int64] // by address; a run keeps it
	tokens      remembered[string, knownToken]  // by hash
	searches    remembered[picking, int]        // how many settings
	picked      *lru.Cache[picking, []space.Setting]

	sizing sync.Mutex
	sizes  map[int64]heldBytes // by project; 0: all

	readyAt struct { // what the blob store said last when asked whether it is there
		mutex sync.Mutex
		at    time.Time
		err   error
	}

	jobs      atomic.Pointer[river.Client[pgx.Tx]] // nil: not begun yet
	differing chan struct{}                        // holds one for each comparison of weights under way
}

// New makes a service on stores that are open and migrated. Run must be going for live news, summaries and lost runs.
func New(db *pg.Store, blobs blob.Store, o Options) *Service {
	if o.SealAfter == 0 {
		o.SealAfter = 3 * time.Minute
	}
	s := &Service{db: db, readings: db, chunks: pack.New(blobs, db), options: o, tries: newTries(), picked: newPicked(), differing: make(chan struct{}, 2)}
	if o.Alone {
		s.chunks.Alone()
	}
	s.live = newLive(db, o.Log)
	return s
}

// Run does the work beside the requests until ctx ends: telling the live streams, keeping summaries, background jobs.
func (s *Service) Run(ctx context.Context) error {
	ctx = pg.In(ctx, pg.Jobs)
	jobs, err := s.startJobs(ctx)
	if err != nil {
		return err
	}
	var wait sync.WaitGroup
	wait.Go(func() { s.live.listen(ctx) })
	wait.Go(func() { s.live.tell(ctx) })
	wait.Go(func() { s.keepSummaries(ctx) })
	wait.Go(func() { s.keepChunks(ctx) })
	wait.Go(func() { s.watchCredentials(ctx) })
	<-ctx.Done()
	wait.Wait()
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	return jobs.Stop(stopping)
}

// summaryPace is how often summaries are brought up to date; where that takes longer, the pause is as long as it took, up to summaryRest.
const (
	summaryPace = 250 * time.Millisecond
	summaryRest = 500 * time.Millisecond
)

// keepSummaries brings curve summaries and stop rules up to date with the readings a few times a second, not once per request, and judges runs as
// far as there is time.
func (s *Service) keepSummaries(ctx context.Context) {
	for pause := summaryPace; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		began := time.Now()
		done, err := s.db.Summarise(ctx)
		runs := make([]int64, len(done))
		for i, d := range done {
			runs[i] = d.Run
			s.live.touch("s", d.Run)
			s.unjudged.add(d)
		}
		err = errors.Join(err, s.watchRuns(ctx, runs), s.judgeSome(ctx))
		if err != nil && ctx.Err() == nil {
			s.options.Log.Warn("summaries of curves wait", "err", err)
		}
		pause = min(max(summaryPace, time.Since(began)), summaryRest)
	}
}

// ForRecorders makes what is asked under ctx work for recorders, which has connections of its own.
func ForRecorders(ctx context.Context) context.Context { return pg.In(ctx, pg.Recorders) }

// Problem makes of any error what the API answers; what is our own fault is logged and not shown.
func (s *Service) Problem(err error) *api.Problem {
	var p *api.Problem
	switch {
	case errors.As(err, &p):
		return p
	case pg.Away(err):
		s.options.Log.Warn("storage does not answer", "err", err)
		return api.Fail(api.Unavailable, "the database does not answer just now; try again in a moment")
	case errors.Is(err, blob.ErrAway):
		s.options.Log.Warn("the blob store does not answer", "err", err)
		return api.Fail(api.Unavailable, "the blob store does not answer just now; try again in a moment")
	case pg.BadText(err):
		return api.Fail(api.Invalid, "a text in the request has a NUL byte in it, or is not UTF-8")
	case pg.TooCostly(err):
		s.options.Log.Warn("the database took too long", "err", err)
		return api.Fail(api.TooCostly, "the database took longer at this than is allowed; ask for less: a narrower filter, fewer columns, or fewer runs at once")
	case errors.Is(err, context.Canceled):
		return api.Fail(api.TooSlow, "the request was given up")
	}
	s.options.Log.Error("request failed", "err", err, "stack", string(debug.Stack()))
	return api.Fail(api.Internal, "the service failed at this; its log says how")
}

// Health says that the process answers.
func (s *Service) Health() api.Health {
	return api.Health{State: "ok", Version: s.options.Version, Level: api.Level}
}

// Ready says whether the database and the blob store answer.
func (s *Service) Ready(ctx context.Context) (*api.Health, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if err := s.db.Pool.Ping(ctx); err != nil {
		return nil, api.Fail(api.Unavailable, "the database does not answer")
	}
	if err := s.blobsReady(ctx); err != nil {
		return nil, api.Fail(api.Unavailable, "%v", err)
	}
	h := s.Health()
	h.Disk = s.Disk()
	return &h, nil
}

// Disk says how the disk of the blobs stands; nil where they are not on one.
func (s *Service) Disk() *api.Disk {
	f := s.chunks.Space()
	if f == nil {
		return nil
	}
	d := &api.Disk{Folder: f.Folder, Free: f.Free, Reserve: f.Reserve, Missing: f.Missing}
	if d.Missing > 0 {
		d.Says = sayFull(*f)
	}
	return d
}

func sayFull(f blob.Full) string {
	return fmt.Sprintf("The disk of %s has %s left, which are kept for the database (%s): %s more must become free before checkpoints are kept again. Until then they wait in the recorders' spools; readings, listings and deletions go on. Drop checkpoints or runs, then: kembrel storage free --now",
		f.Folder, api.Bytes(f.Free), api.Bytes(f.Reserve), api.Bytes(f.Missing))
}

// readyPace is how long an answer of the blob store is taken as that of now.
const readyPace = 5 * time.Second

// blobsReady asks the blob store whether it is there, or remembers what it said a moment ago.
func (s *Service) blobsReady(ctx context.Context) error {
	s.readyAt.mutex.Lock()
	defer s.readyAt.mutex.Unlock()
	if time.Since(s.readyAt.at) > readyPace {
		s.readyAt.err = s.chunks.Ready(ctx)
		s.readyAt.at = time.Now()
	}
	return s.readyAt.err
}

// orNotFound turns a missing row into a problem that names what was asked for.
func orNotFound(err error, format string, args ...any) error {
	if errors.Is(err, pg.ErrNone) {
		return api.Fail(api.NotFound, format, args...)
	}
	return err
}

func runAddress(project string, number int) string { return fmt.Sprintf("%s/%d", project, number) }
