package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/store"
	"kembrel/store/pg/curves"
	"kembrel/store/pg/db"
)

// sealed are the tables of sealed readings.
var sealed = []string{"block", "axis", "fold"}

func (w *world) sizeOf(tables ...string) (bytes int64, err error) {
	for _, t := range tables {
		var n int64
		if err := w.db.Lane(db.Jobs).QueryRow(context.Background(), "select pg_total_relation_size($1::regclass)",
			t).Scan(&n); err != nil {
			return 0, err
		}
		bytes += n
	}
	return bytes, nil
}

// sealAll summarises and seals until the journal is empty.
func (w *world) sealAll() error {
	ctx := context.Background()
	for range 10_000 {
		if _, err := w.db.Summarise(ctx); err != nil {
			return err
		}
		if _, err := w.db.Seal(ctx, curves.SealRule{}); err != nil {
			return err
		}
		var left bool
		if err := w.db.Lane(db.Jobs).QueryRow(ctx,
			"select exists (select from journal)").Scan(&left); err != nil || !left {
			return err
		}
	}
	return fmt.Errorf("the journal does not become empty")
}

// sustained writes while summaries and sealing keep up; what is left to be sealed at the end counts too.
func (w *world) sustained(names, points, batches int) (float64, error) {
	if err := w.sealAll(); err != nil {
		return 0, err
	}
	began := time.Now()
	working, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		for working.Err() == nil {
			_, err := w.db.Summarise(context.Background())
			if err == nil {
				_, err = w.db.Seal(context.Background(), curves.SealRule{Age: time.Second, Bytes: 16 << 20})
			}
			if err != nil {
				done <- err
				return
			}
			time.Sleep(200 * time.Millisecond)
		}
		done <- nil
	}()
	if _, err := w.storeLayer(names, points, batches); err != nil {
		stop()
		return 0, err
	}
	stop()
	if err := <-done; err != nil {
		return 0, err
	}
	if err := w.sealAll(); err != nil {
		return 0, err
	}
	return float64(writers*batches*names*points) / time.Since(began).Seconds(), nil
}

// walPerReading compares what is written to the write-ahead log, sealing included.
func (w *world) walPerReading() row {
	const curves, points, batches = 50, 20, 400
	measure := func(fill func(int, int, int) (float64, error)) (float64, error) {
		ctx := context.Background()
		if _, err := w.db.Lane(db.Jobs).Exec(ctx, "checkpoint"); err != nil {
			return 0, err
		}
		var from, to float64
		position := "select pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')::float8"
		if err := w.db.Lane(db.Jobs).QueryRow(ctx, position).Scan(&from); err != nil {
			return 0, err
		}
		if _, err := fill(curves, points, batches); err != nil {
			return 0, err
		}
		if err := w.db.Lane(db.Jobs).QueryRow(ctx, position).Scan(&to); err != nil {
			return 0, err
		}
		return (to - from) / (writers * batches * curves * points), nil
	}
	return row{what: "write-ahead log per reading, sealing included", reference: "a row per reading", unit: "bytes",
		want: "<= 7 bytes", rounds: 2,
		theirs: func() (float64, error) { return measure(w.copyRows) },
		ours:   func() (float64, error) { return measure(w.sustained) }}
}

// realBytes is what the curves of the demo's trainer take once they are sealed: per step and per epoch, and the
// machine's.
func (w *world) realBytes() row {
	return row{what: "stored bytes per reading, sealed, the harbour's curves per step and per epoch",
		reference: "a row per reading", unit: "bytes", want: "<= 2.7 (2.2) bytes", rounds: 1,
		theirs: func() (float64, error) {
			ctx := context.Background()
			if _, err := w.db.Lane(db.Jobs).Exec(ctx, "truncate plain_reading"); err != nil {
				return 0, err
			}
			if _, err := w.copyRows(50, 20, 100); err != nil {
				return 0, err
			}
			n, err := w.sizeOf("plain_reading")
			return float64(n) / (writers * 100 * 50 * 20), err
		},
		ours: func() (float64, error) {
			ctx := context.Background()
			if err := w.sealAll(); err != nil {
				return 0, err
			}
			if _, err := w.db.Lane(db.Jobs).Exec(ctx,
				"truncate block, axis, fold, curve_summary, run_summary; update leg set summarised = batches, sealed = batches, open = false"); err != nil {
				return 0, err
			}
			for seed := range 3 {
				cmd := exec.Command(os.Getenv("KEMBREL_BINARY"), "record", "--quiet", "--project", "vessels", "--",
					trainer(), "train",
					"--hidden", "24", "--clips", "7680", "--batch", "8", "--epochs", "24", "--per-step", "--save-every",
					"1000", "--seed", fmt.Sprint(seed))
				if out, err := cmd.CombinedOutput(); err != nil {
					return 0, fmt.Errorf("%w: %s", err, out)
				}
			}
			w.drain()
			if err := w.sealAll(); err != nil {
				return 0, err
			}
			var count float64
			if err := w.db.Lane(db.Jobs).QueryRow(ctx, "select sum(n)::float8 from block").Scan(&count); err != nil {
				return 0, err
			}
			// steady state, without the space of replaced rows
			if _, err := w.db.Lane(db.Jobs).Exec(ctx, "vacuum full block, axis, fold"); err != nil {
				return 0, err
			}
			n, err := w.sizeOf(sealed...)
			return float64(n) / count, err
		}}
}

// shortBytes is what many short curves take, such as a class's figures per epoch.
func (w *world) shortBytes() row {
	const curves, points = 1000, 30
	return row{what: "stored bytes per reading, sealed, 1,000 curves of 30 readings", reference: "a row per reading",
		unit: "bytes", want: "(small)", rounds: 1,
		theirs: func() (float64, error) {
			if _, err := w.db.Lane(db.Jobs).Exec(context.Background(), "truncate plain_reading"); err != nil {
				return 0, err
			}
			if _, err := w.copyRows(curves, points, 1); err != nil {
				return 0, err
			}
			n, err := w.sizeOf("plain_reading")
			return float64(n) / (writers * curves * points), err
		},
		ours: func() (float64, error) {
			if err := w.sealAll(); err != nil {
				return 0, err
			}
			before, err := w.sizeOf(sealed...)
			if err != nil {
				return 0, err
			}
			if _, err := w.storeLayer(curves, points, 1); err != nil {
				return 0, err
			}
			if err := w.sealAll(); err != nil {
				return 0, err
			}
			after, err := w.sizeOf(sealed...)
			return float64(after-before) / (writers * curves * points), err
		}}
}

const long = 10_000_000

// longRun makes, once, a curve of ten million readings, in the store and as plain rows.
func (w *world) longRun() (run int64, number int, err error) {
	if w.long != 0 {
		return w.long, w.longNumber, nil
	}
	ctx := context.Background()
	run, number, err = w.newRun("loss.train")
	if err != nil {
		return 0, 0, err
	}
	recorder, err := w.newLeg(run, 0)
	if err != nil {
		return 0, 0, err
	}
	r := rand.New(rand.NewPCG(1, 1))
	const rows = 10_000
	for b := range long / rows {
		batch := curve.Batch{Axis: make([]curve.Point, rows),
			Columns: []curve.Column{{Curve: 1, Values: make([]float64, rows)}}}
		for i := range batch.Axis {
			step := int64(b*rows + i)
			batch.Axis[i] = curve.Point{Step: step, Epoch: float64(step) / 10_000, Time: 1 + step*20}
			batch.Columns[0].Values[i] = float64(float32(math.Exp(-float64(step)/3e6) + 0.05*r.NormFloat64()))
		}
		if _, err := w.db.CountTogether(ctx, store.Count{Run: run, Leg: 1, Recorder: recorder, Number: int64(b + 1),
			Upto: int64(b + 1), Points: rows, Batch: batch}); err != nil {
			return 0, 0, err
		}
	}
	if err := w.sealAll(); err != nil {
		return 0, 0, err
	}
	if _, err := w.db.Lane(db.Jobs).Exec(ctx, "delete from plain_reading where run = -1"); err != nil {
		return 0, 0, err
	}
	if _, err := w.db.Lane(db.Jobs).Exec(ctx,
		`insert into plain_reading select -1, 1, i, i / 10000.0, to_timestamp(i * 0.02), exp(-i / 3e6) + 0.05 * random() from generate_series(0, $1::bigint - 1) i`, long); err != nil {
		return 0, 0, err
	}
	if _, err := w.db.Lane(db.Jobs).Exec(ctx, "analyze plain_reading"); err != nil {
		return 0, 0, err
	}
	w.long, w.longNumber = run, number
	return run, number, nil
}

const pixels = 1000

// whole looks at a part of the long curve at 1,000 pixels.
func (w *world) whole(what, want string, from, to float64, ours func(from, to int64) error) row {
	a, b := int64(from*long), int64(to*long)-1
	return row{what: "a curve of 10M readings at 1,000 pixels, " + what, reference: "SQL GROUP BY", unit: "ms",
		want: want, rounds: 5,
		theirs: func() (float64, error) {
			if _, _, err := w.longRun(); err != nil {
				return 0, err
			}
			began := time.Now()
			rows, err := w.db.Lane(db.Jobs).Query(context.Background(), `select step / $3 as pixel, min(value), max(value), avg(value), count(*) from plain_reading
				where run = -1 and curve = 1 and step between $1 and $2 group by pixel order by pixel`, a, b, (b-a)/pixels+1)
			if err != nil {
				return 0, err
			}
			n := 0
			for rows.Next() {
				n++
			}
			if n < pixels/2 || rows.Err() != nil {
				return 0, fmt.Errorf("%d pixels: %w", n, rows.Err())
			}
			return float64(time.Since(began).Microseconds()) / 1000, nil
		},
		ours: func() (float64, error) {
			began := time.Now()
			err := ours(a, b)
			return float64(time.Since(began).Microseconds()) / 1000, err
		}}
}

func (w *world) viewStore(from, to int64) error {
	window := curve.Window{By: curve.ByStep, From: float64(from), To: float64(to)}
	window.Width = curve.PixelWidth(curve.ByStep, window.From, window.To, pixels)
	got, err := w.db.View(context.Background(), store.Span{Run: w.long, Names: []string{"loss.train"}}, window,
		curve.Smoothing{})
	if err != nil {
		return err
	}
	count := int64(0)
	for _, f := range got["loss.train"].Folds {
		count += f.N
	}
	if count != to-from+1 {
		return fmt.Errorf("%d readings in the view of %d", count, to-from+1)
	}
	return nil
}

func (w *world) viewHTTP(from, to int64) error {
	in := &api.CurvesInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: "vessels"},
		Number: w.longNumber}, By: "step",
		From: float64(from), To: float64(to), Pixels: pixels, Names: []string{"loss.train"}}
	got, err := client.Call(context.Background(), w.client, api.GetCurves, in)
	if err == nil && (len(got.Curves) != 1 || len(got.Curves[0].Value) < pixels/2) {
		err = fmt.Errorf("%d curves in the view", len(got.Curves))
	}
	return err
}

// asked is what the console asks for when it opens a run: pixels, a curve by name, no end, and smoothing if one is set.
func (w *world) asked(smooth, median float64) func(from, to int64) error {
	return func(_, _ int64) error {
		in := &api.CurvesInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: "vessels"},
			Number: w.longNumber}, By: "step",
			Pixels: consolePixels, Names: []string{"loss.train"}, Smooth: smooth, Median: median}
		got, err := client.Call(context.Background(), w.client, api.GetCurves, in)
		if err == nil && (len(got.Curves) != 1 || len(got.Curves[0].Value) < consolePixels/2 ||
			(smooth+median > 0) != (len(got.Curves[0].Smooth) > 0)) {
			err = fmt.Errorf("%d curves in the view", len(got.Curves))
		}
		return err
	}
}

// consolePixels is what console/src/run/Run.vue asks for.
const consolePixels = 700

// manyLegs looks at a curve of 100 legs, each cut by the next.
func (w *world) manyLegs() row {
	const legs, rows = 100, 5000
	var run int64
	prepare := func() error {
		ctx := context.Background()
		if run != 0 {
			return nil
		}
		var err error
		if run, _, err = w.newRun("loss.train"); err != nil {
			return err
		}
		for l := range legs {
			from := int64(l * (rows - 500))
			recorder, err := w.newLeg(run, from)
			if err != nil {
				return err
			}
			b := curve.Batch{Columns: []curve.Column{{Curve: 1}}}
			for i := range int64(rows) {
				b.Axis = append(b.Axis, curve.Point{Step: from + i, Epoch: float64(from+i) / 1000, Time: i})
				b.Columns[0].Values = append(b.Columns[0].Values, value(l, int(i), 0))
			}
			if _, err := w.db.CountTogether(ctx, store.Count{Run: run, Leg: l + 1, Recorder: recorder, Number: 1,
				Upto: 1, Points: rows, Batch: b}); err != nil {
				return err
			}
		}
		return w.sealAll()
	}
	look := func() (float64, error) {
		if err := prepare(); err != nil {
			return 0, err
		}
		began := time.Now()
		to := float64(legs * (rows - 500))
		got, err := w.db.View(context.Background(), store.Span{Run: run},
			curve.Window{By: curve.ByStep, To: to, Width: curve.PixelWidth(curve.ByStep, 0, to, pixels)},
			curve.Smoothing{})
		if err == nil && len(got["loss.train"].Folds) < pixels/2 {
			err = fmt.Errorf("%d pixels", len(got["loss.train"].Folds))
		}
		return float64(time.Since(began).Microseconds()) / 1000, err
	}
	return row{what: "a curve of 100 legs, each cut by the next, at 1,000 pixels", reference: "(itself)", unit: "ms",
		want: "<= 40 ms", rounds: 5, theirs: look, ours: look}
}

// thousandRuns reads last and best of one curve of 1,000 runs.
func (w *world) thousandRuns() row {
	var runs []int64
	prepare := func() error {
		ctx := context.Background()
		for len(runs) < 1000 {
			run, _, err := w.newRun("loss.val")
			if err != nil {
				return err
			}
			recorder, err := w.newLeg(run, 0)
			if err != nil {
				return err
			}
			runs = append(runs, run)
			if _, err := w.db.CountTogether(ctx, store.Count{Run: run, Leg: 1, Recorder: recorder, Number: 1, Upto: 1,
				Points: 1, Batch: curve.Batch{Axis: []curve.Point{{Step: 1}},
					Columns: []curve.Column{{Curve: 1, Values: []float64{1}}}}}); err != nil {
				return err
			}
		}
		return w.sealAll()
	}
	look := func() (float64, error) {
		if err := prepare(); err != nil {
			return 0, err
		}
		began := time.Now()
		got, err := w.db.Summaries(context.Background(), runs, "loss.val")
		if err == nil && len(got) != 1000 {
			err = fmt.Errorf("%d summaries", len(got))
		}
		return float64(time.Since(began).Microseconds()) / 1000, err
	}
	return row{what: "last and best of a curve of 1,000 runs", reference: "(itself)", unit: "ms", want: "<= 10 ms",
		rounds: 5, theirs: look, ours: look}
}

// trainer is where the demo's trainer is, beside the binary.
func trainer() string { return filepath.Join(filepath.Dir(os.Getenv("KEMBREL_BINARY")), "harbour") }
