package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"kembrel.internal/kembrel"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg"
	"kembrel/store/pg/db"
)

// recorderCost is the time of one readings call of the Go binding, under a real recorder, against one plain write to a
// file of as many bytes; in bursts as a training loop makes them, or as fast as the program can, when the recorder's
// own speed counts.
func (w *world) recorderCost(what string, burst int, pause time.Duration, want string) row {
	const calls = 20_000
	line := fmt.Appendf(nil, `{"kind":"readings","id":123456,"step":123456,"epoch":12,"time":1790000000000,"values":{"loss.train":0.123456789,"loss.val":0.234567891}}`+"\n")
	paced := func(call func(i int64) error) (float64, error) {
		var took time.Duration
		for from := int64(0); from < calls; from += int64(burst) {
			began := time.Now()
			for i := from; i < from+int64(burst); i++ {
				if err := call(i); err != nil {
					return 0, err
				}
			}
			took += time.Since(began)
			time.Sleep(pause)
		}
		return took.Seconds() / calls * 1e6, nil
	}
	return row{what: "recorder: time per readings call, Go, " + what, reference: "one write to a file", unit: "us",
		want: want, rounds: 5,
		theirs: func() (float64, error) {
			f, err := os.Create(filepath.Join(w.folder, "plain"))
			if err != nil {
				return 0, err
			}
			defer f.Close()
			return paced(func(int64) error { _, err := f.Write(line); return err })
		},
		ours: func() (float64, error) {
			run, _ := kembrel.Record(context.Background(), kembrel.Options{Project: "vessels", Title: "bench"})
			took, err := paced(func(i int64) error {
				run.Readings(i, 12, kembrel.V("loss.train", 0.123456789), kembrel.V("loss.val", 0.234567891))
				return nil
			})
			run.End(kembrel.Finished, "")
			w.drain()
			return took, errors.Join(err, run.Err())
		}}
}

// drain waits until the recorders have sent everything, so that one measurement does not weigh on the next.
func (w *world) drain() {
	for range 600 {
		left, _ := filepath.Glob(filepath.Join(w.folder, "spool", "*", "leg.json"))
		if len(left) == 0 {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}

const writers = 4

// parallel runs do in as many goroutines as there are writers and returns units of work done per second.
func parallel(units int, do func(worker int) error) (float64, error) {
	var wait sync.WaitGroup
	errs := make([]error, writers)
	began := time.Now()
	for i := range writers {
		wait.Go(func() { errs[i] = do(i) })
	}
	wait.Wait()
	took := time.Since(began).Seconds()
	for _, err := range errs {
		if err != nil {
			return 0, err
		}
	}
	return float64(units) / took, nil
}

// copyRows is the reference: PostgreSQL's COPY, a row per reading, one transaction per batch.
func (w *world) copyRows(curves, points, batches int) (float64, error) {
	ctx := context.Background()
	return parallel(writers*batches*curves*points, func(worker int) error {
		conn, err := pgx.Connect(ctx, w.database)
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		for b := range batches {
			rows := make([][]any, 0, curves*points)
			for p := range points {
				for c := range curves {
					rows = append(rows, []any{int64(worker), int32(c), int64(b*points + p), float64(b),
						time.Now(), value(b, p, c)})
				}
			}
			if _, err := conn.CopyFrom(ctx, pgx.Identifier{"plain_reading"},
				[]string{"run", "curve", "step", "epoch", "at", "value"}, pgx.CopyFromRows(rows)); err != nil {
				return err
			}
		}
		return nil
	})
}

func value(b, p, c int) float64 {
	return float64(float32(math.Exp(-float64(b*100+p)/500)+0.3) + float32(c)*0.01)
}

// newRun makes a run with curves, numbered from 1 in their order.
func (w *world) newRun(curves ...string) (run int64, number int, err error) {
	ctx := context.Background()
	err = w.db.InTx(ctx, func(q pg.Queries) (err error) {
		if run, number, err = q.AddRun(ctx, store.NewRun{Project: w.project, Creator: w.person, Key: uuid.NewString(),
			Recipe: map[string]any{}, Started: time.Now()}); err != nil {
			return err
		}
		_, err = q.CurveIDs(ctx, run, curves)
		return err
	})
	return run, number, err
}

// newLeg opens a run's next leg for a recorder.
func (w *world) newLeg(run, from int64) (recorder string, err error) {
	ctx := context.Background()
	recorder = uuid.NewString()
	return recorder, w.db.InTx(ctx, func(q pg.Queries) error {
		if err := q.LockRun(ctx, run); err != nil {
			return err
		}
		_, err := q.AddLeg(ctx, run, store.NewLeg{Key: uuid.NewString(), Recorder: recorder, FromStep: from,
			FromEpoch: math.NaN(), Started: time.Now()})
		return err
	})
}

// storeLayer makes readings durable through the store: counted and kept in one transaction per batch.
func (w *world) storeLayer(curves, points, batches int) (float64, error) {
	ctx := context.Background()
	type target struct {
		run      int64
		recorder string
		names    []string
	}
	targets := make([]target, writers)
	for i := range targets {
		t := &targets[i]
		for c := range curves {
			t.names = append(t.names, fmt.Sprintf("curve %d", c))
		}
		var err error
		if t.run, _, err = w.newRun(t.names...); err == nil {
			t.recorder, err = w.newLeg(t.run, 0)
		}
		if err != nil {
			return 0, err
		}
	}
	return parallel(writers*batches*curves*points, func(worker int) error {
		t := targets[worker]
		for b := range batches {
			batch := curve.Batch{}
			for p := range points {
				batch.Axis = append(batch.Axis, curve.Point{Step: int64(b*points + p), Epoch: float64(b),
					Time: time.Now().UnixMilli()})
			}
			for c := range curves {
				values := make([]float64, points)
				for p := range values {
					values[p] = value(b, p, c)
				}
				batch.Columns = append(batch.Columns, curve.Column{Curve: c + 1, Values: values})
			}
			_, err := w.db.CountTogether(ctx, store.Count{Run: t.run, Leg: 1, Recorder: t.recorder,
				Number: int64(b + 1), Upto: int64(b + 1), Points: points, Batch: batch})
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// begin makes a run over HTTP, opens its first leg and names its curves.
func (w *world) begin(names []string) (leg api.LegInput, numbers []int, err error) {
	ctx := context.Background()
	in := &api.NewRun{ProjectInput: api.ProjectInput{Project: "vessels"}, Key: uuid.NewString()}
	in.Body.Started = time.Now()
	run, err := client.Call(ctx, w.client, api.BeginRun, in)
	if err != nil {
		return leg, nil, err
	}
	open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: in.ProjectInput, Number: run.Number},
		Key: uuid.NewString()}
	open.Body.Recorder = uuid.NewString()
	if _, err := client.Call(ctx, w.client, api.OpenLeg, open); err != nil {
		return leg, nil, err
	}
	named := &api.CurveNames{LegInput: api.LegInput{RunInput: open.RunInput, Leg: 1, Recorder: open.Body.Recorder}}
	named.Body.Names = names
	out, err := client.Call(ctx, w.client, api.NameCurves, named)
	if err != nil {
		return leg, nil, err
	}
	return named.LegInput, out.Curves, nil
}

// overHTTP sends the same as batches to the service: JSON with names, or packed as the recorder does.
func (w *world) overHTTP(binary bool) func(curves, points, batches int) (float64, error) {
	return func(curves, points, batches int) (float64, error) {
		ctx := context.Background()
		legs, numbers := make([]api.LegInput, writers), make([][]int, writers)
		names := make([]string, curves)
		for c := range names {
			names[c] = fmt.Sprintf("curve %d", c)
		}
		for i := range legs {
			var err error
			if legs[i], numbers[i], err = w.begin(names); err != nil {
				return 0, err
			}
		}
		return parallel(writers*batches*curves*points, func(worker int) error {
			for b := range batches {
				in := &api.BatchInput{LegInput: legs[worker], Body: api.Batch{Number: int64(b + 1), Upto: int64(b + 1)}}
				var readings curve.Batch
				for p := range points {
					readings.Axis = append(readings.Axis, curve.Point{Step: int64(b*points + p), Epoch: float64(b),
						Time: time.Now().UnixMilli()})
				}
				for c := range curves {
					values := make([]float64, points)
					for p := range values {
						values[p] = value(b, p, c)
					}
					readings.Columns = append(readings.Columns, curve.Column{Curve: numbers[worker][c], Values: values})
				}
				if binary {
					in.Body.Packed = curve.AppendJournal(nil, readings)
				} else {
					in.Body.Axis, in.Body.Curves = api.ToBatch(names, readings)
				}
				op := api.SendBatch
				op.Binary = binary
				if _, err := client.Call(ctx, w.client, op, in); err != nil {
					return err
				}
			}
			return nil
		})
	}
}

func (w *world) readings(what string, curves, points, batches int, want string,
	ours func(int, int, int) (float64, error)) row {
	return row{what: fmt.Sprintf("%s, %d curves x %d", what, curves, points), reference: "COPY, a row per reading",
		unit: "readings/s", want: want, more: true, rounds: 5,
		theirs: func() (float64, error) { return w.copyRows(curves, points, batches) },
		ours:   func() (float64, error) { return ours(curves, points, batches) }}
}

// bytesPerReading compares what the tables take, indexes included.
func (w *world) bytesPerReading() row {
	const curves, points, batches = 50, 20, 200
	size := func(table string, fill func(int, int, int) (float64, error)) (float64, error) {
		ctx := context.Background()
		// the next measurements begin without what was sealed
		if _, err := w.db.Lane(db.Jobs).Exec(ctx, "truncate "+table); err != nil {
			return 0, err
		}
		if _, err := fill(curves, points, batches); err != nil {
			return 0, err
		}
		tables := []string{table}
		if table == "journal" {
			tables = []string{"journal_0", "journal_1", "journal_2", "journal_3"}
		}
		bytes, err := w.sizeOf(tables...)
		return float64(bytes) / (writers * batches * curves * points), err
	}
	return row{what: "stored bytes per reading, journal before sealing", reference: "a row per reading", unit: "bytes",
		want: "(sealing brings <= 2.7)", rounds: 1,
		theirs: func() (float64, error) { return size("plain_reading", w.copyRows) },
		ours:   func() (float64, error) { return size("journal", w.storeLayer) }}
}
