package service

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"kembrel/service/runs"
	"kembrel/service/weights"
	"kembrel/store/pg/curves"
	"kembrel/store/pg/db"
)

// The background jobs run in one replica at a time, chosen by river; each may run twice without harm.

type lookoutArgs struct{}

func (lookoutArgs) Kind() string { return "lookout" }

// Timeout says so for itself: the default is a minute.
func (w *lookout) Timeout(*river.Job[lookoutArgs]) time.Duration { return 5 * time.Minute }

type lookout struct {
	river.WorkerDefaults[lookoutArgs]
	service *Service
}

// Work marks lost runs, clears expired sessions, and has runs enter models by their rules.
func (w *lookout) Work(ctx context.Context, _ *river.Job[lookoutArgs]) error {
	if err := errors.Join(w.service.LoseRuns(ctx), w.service.LookAgain(ctx), w.service.EraseRuns(ctx),
		w.service.DropDue(ctx), w.service.DropDueFiles(ctx), w.service.InspectPending(ctx)); err != nil {
		return err
	}
	return errors.Join(w.service.db.ClearExpired(ctx), w.service.db.GatherTally(ctx), w.service.ClearDeliveries(ctx),
		w.service.EnterByRules(ctx))
}

type sealArgs struct{}

func (sealArgs) Kind() string { return "seal" }

type seal struct {
	river.WorkerDefaults[sealArgs]
	service *Service
}

// Timeout gives sealing after a long outage time.
func (w *seal) Timeout(*river.Job[sealArgs]) time.Duration { return 10 * time.Minute }

// Work seals what the journal holds.
func (w *seal) Work(ctx context.Context, _ *river.Job[sealArgs]) error {
	_, err := w.service.db.Seal(ctx, curves.SealRule{Age: w.service.options.SealAfter, Bytes: sealBytes})
	return err
}

// every is a job that is begun at this pace.
func every(pace time.Duration, args river.JobArgs) *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(pace), func() (river.JobArgs, *river.InsertOpts) {
		return args, &river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByPeriod: pace}}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}

func (s *Service) startJobs(ctx context.Context) (*river.Client[pgx.Tx], error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, &lookout{service: s})
	river.AddWorker(workers, &seal{service: s})
	river.AddWorker(workers, s.Weights.Inspector())
	client, err := river.NewClient(riverpgxv5.New(s.db.Lane(db.Jobs)), &river.Config{
		Schema: db.JobSchema,
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2},
			weights.Queue: {MaxWorkers: weights.Workers}},
		Workers: workers,
		Logger:  slog.New(quieter{s.options.Log.Handler()}),
		PeriodicJobs: []*river.PeriodicJob{every(runs.LookoutPace, lookoutArgs{}),
			every(min(sealPace, s.options.SealAfter), sealArgs{})},
		CompletedJobRetentionPeriod: 10 * time.Minute,
	})
	if err != nil {
		return nil, err
	}
	s.WorkIn(client)
	return client, client.Start(db.In(context.WithoutCancel(ctx), db.Jobs))
}

// quieter passes on warnings and errors only.
type quieter struct{ slog.Handler }

func (q quieter) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && q.Handler.Enabled(ctx, level)
}

func (q quieter) WithAttrs(a []slog.Attr) slog.Handler { return quieter{q.Handler.WithAttrs(a)} }

func (q quieter) WithGroup(name string) slog.Handler { return quieter{q.Handler.WithGroup(name)} }

// sealPace is how often the journal is looked at, and sealBytes the size at which it is sealed before its time.
const (
	sealPace  = 5 * time.Second
	sealBytes = 64 << 20
)
