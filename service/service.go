package service

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/catalogue"
	"kembrel/service/checkpoints"
	"kembrel/service/comparing"
	"kembrel/service/curves"
	"kembrel/service/datasets"
	"kembrel/service/entering"
	"kembrel/service/evaluations"
	"kembrel/service/files"
	"kembrel/service/finding"
	"kembrel/service/judging"
	"kembrel/service/lineage"
	"kembrel/service/pages"
	"kembrel/service/people"
	"kembrel/service/projects"
	"kembrel/service/runs"
	"kembrel/service/searches"
	"kembrel/service/sheets"
	"kembrel/service/subscriptions"
	"kembrel/service/weights"
	"kembrel/service/work"
	"kembrel/store/blob"
	"kembrel/store/pack"
	"kembrel/store/pg"
	"kembrel/store/pg/db"
)

// Options are what a service needs to know beside its stores.
type Options struct {
	Log       *slog.Logger
	LostAfter time.Duration // a run without a sign of life for so long is lost
	Version   string
	Alone     bool // no other process serves this database and blob store
	Telling   subscriptions.Options
	SealAfter time.Duration // readings lie in the journal for so long before they are packed into blocks; 0: 3 minutes
}

// Service answers every operation of the API: each slice answers its own.
type Service struct {
	*act.Act
	*people.People
	*projects.Projects
	*finding.Finder
	*runs.Runs
	*curves.Curves
	*judging.Judging
	*checkpoints.Checkpoints
	*weights.Weights
	*comparing.Comparing
	*searches.Searches
	*datasets.Datasets
	*sheets.Sheets
	*evaluations.Evaluations
	*files.Files
	*lineage.Lineage
	*catalogue.Catalogue
	*subscriptions.Subscriptions
	*entering.Entering
	*pages.Pages

	db      *pg.Store
	options Options
	blobs   *blobVitals
	work    *work.Work
}

// on is the store for a slice: its transactions give the slice what it needs of one, T.
type on[T any] struct{ *pg.Store }

// InTx runs do in a transaction that is committed if do returns nil.
func (s on[T]) InTx(ctx context.Context, do func(q T) error) error {
	return s.Store.InTx(ctx, func(q pg.Queries) error { return do(any(q).(T)) })
}

// A transaction gives each slice what it needs.
var (
	_ act.Tx         = pg.Queries{}
	_ people.Tx      = pg.Queries{}
	_ projects.Tx    = pg.Queries{}
	_ runs.Tx        = pg.Queries{}
	_ judging.Tx     = pg.Queries{}
	_ checkpoints.Tx = pg.Queries{}
	_ searches.Tx    = pg.Queries{}
	_ datasets.Tx    = pg.Queries{}
	_ sheets.Tx      = pg.Queries{}
	_ evaluations.Tx = pg.Queries{}
	_ files.Tx       = pg.Queries{}
	_ catalogue.Tx   = pg.Queries{}

	_ subscriptions.Tx = pg.Queries{}
	_ entering.Tx      = pg.Queries{}
)

// New makes a service on stores that are open and migrated. Run must be going for live news, summaries and lost runs.
func New(db *pg.Store, blobs blob.Store, o Options) *Service {
	if o.SealAfter == 0 {
		o.SealAfter = 3 * time.Minute
	}
	heard := &blobVitals{of: map[string]BlobVitals{}}
	chunks := pack.New(&blob.Watched{Store: blobs, Heard: heard.heard}, db)
	if o.Alone {
		chunks.Alone()
	}
	a := act.New(db, o.Log)
	f := finding.New(a, db)
	s := &Service{Act: a, Finder: f, db: db, options: o, blobs: heard,
		People: people.New(a, on[people.Tx]{db}), Projects: projects.New(f, on[projects.Tx]{db}),
		Curves: curves.New(f, db), Judging: judging.New(f, on[judging.Tx]{db}), Weights: weights.New(f, db),
		Searches: searches.New(f, on[searches.Tx]{db})}
	s.work = work.New(a, db)
	s.Datasets = datasets.New(a, on[datasets.Tx]{db}, chunks, s.work)
	s.Sheets = sheets.New(f, on[sheets.Tx]{db}, chunks, s.Datasets, s.work)
	s.Evaluations = evaluations.New(f, on[evaluations.Tx]{db})
	s.Files = files.New(f, on[files.Tx]{db}, chunks)
	s.Checkpoints = checkpoints.New(f, on[checkpoints.Tx]{db}, chunks, s.Weights, s.Evaluations)
	s.Evaluations.FindIn(s.Checkpoints)
	s.Weights.ReadFrom(s.Checkpoints)
	s.Runs = runs.New(f, on[runs.Tx]{db}, s.Checkpoints, s.Judging, o.LostAfter)
	s.Lineage = lineage.New(f, db, s.Checkpoints)
	s.Comparing = comparing.New(f, db, s.Curves)
	s.Pages = pages.New(f, db, s.Runs, s.Judging, s.Checkpoints, s.Searches, s.Sheets,
		s.Evaluations)
	s.Catalogue = catalogue.New(a, on[catalogue.Tx]{db}, chunks, s.Checkpoints, known{s.Pages, f}, s.Sheets)
	s.Subscriptions = subscriptions.New(a, on[subscriptions.Tx]{db}, f, o.Telling)
	s.Entering = entering.New(a, on[entering.Tx]{db}, f, s.Checkpoints, s.Catalogue)
	a.WhenEventsCome(s.Wake)
	return s
}

// WhoByToken finds in whose name a token acts that is used from an address.
func (s *Service) WhoByToken(ctx context.Context, token, from string) (act.Who, error) {
	if subscriptions.IsReport(token) {
		return s.WhoReports(ctx, token)
	}
	return s.People.WhoByToken(ctx, token, from)
}

// known shows runs to the catalogue.
type known struct {
	*pages.Pages
	*finding.Finder
}

// RunID finds a run.
func (k known) RunID(ctx context.Context, in api.RunInput) (int64, error) {
	return k.Finder.RunID(ctx, in)
}

// Run does the work beside the requests until ctx ends: telling the live streams, keeping summaries, background jobs.
func (s *Service) Run(ctx context.Context) error {
	ctx = act.ByItself(db.In(ctx, db.Jobs))
	jobs, err := s.startJobs(ctx)
	if err != nil {
		return err
	}
	var wait sync.WaitGroup
	wait.Go(func() { s.Live.Listen(ctx) })
	wait.Go(func() { s.Live.Tell(ctx) })
	wait.Go(func() { s.KeepChain(ctx) })
	wait.Go(func() { s.keepSummaries(ctx) })
	wait.Go(func() { s.KeepChunks(ctx) })
	wait.Go(func() { s.KeepLooking(ctx) })
	wait.Go(func() { s.KeepComparing(ctx) })
	wait.Go(func() { s.KeepTelling(ctx) })
	wait.Go(func() { s.work.Keep(ctx) })
	wait.Go(func() { s.WatchCredentials(ctx) })
	<-ctx.Done()
	wait.Wait()
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	return jobs.Stop(stopping)
}

// summaryPace is how often summaries are brought up to date; where that takes longer, the pause is as long as it took,
// up to summaryRest.
const (
	summaryPace = 250 * time.Millisecond
	summaryRest = 500 * time.Millisecond
)

// keepSummaries brings curve summaries and stop rules up to date with the readings a few times a second, not once per
// request, and judges runs as far as there is time.
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
			s.Live.Touch("s", d.Run)
			s.Summarised(d)
		}
		err = errors.Join(err, s.WatchRuns(ctx, runs), s.JudgeSome(ctx))
		if err != nil && ctx.Err() == nil {
			s.Log.Warn("summaries of curves wait", "err", err)
		}
		pause = min(max(summaryPace, time.Since(began)), summaryRest)
	}
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
	if err := s.BlobsReady(ctx); err != nil {
		return nil, api.Fail(api.Unavailable, "%v", err)
	}
	h := s.Health()
	h.Disk = s.Disk()
	return &h, nil
}
