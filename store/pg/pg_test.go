package pg_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/store"
	"kembrel/store/pg"
	"kembrel/store/pg/curves"
	"kembrel/test/testdb"
)

var ctx = context.Background()

type fixture struct {
	*pg.Store
	person, project int64
}

func start(t *testing.T) fixture {
	f := fixture{Store: testdb.New(t)}
	var err error
	f.person, err = f.AddPerson(ctx, store.Person{Name: "Ines"}, "")
	require.NoError(t, err)
	f.project, _, err = f.AddProject(ctx, "vessels", "", verdict.Objective{Curve: "loss.val",
		Direction: verdict.Lower}, f.person)
	require.NoError(t, err)
	return f
}

func (f fixture) run(t *testing.T) int64 {
	var id int64
	require.NoError(t, f.InTx(ctx, func(q pg.Queries) (err error) {
		id, _, err = q.AddRun(ctx, store.NewRun{Project: f.project, Creator: f.person, Key: uuid.NewString(),
			Recipe: map[string]any{}, Started: time.Now()})
		return err
	}))
	return id
}

// leg writes readings in batches, as recorders do.
type leg struct {
	f        fixture
	run      int64
	number   int
	recorder string
	batch    int64
}

func (f fixture) leg(t *testing.T, run, from int64) *leg {
	l := &leg{f: f, run: run, recorder: uuid.NewString()}
	require.NoError(t, f.InTx(ctx, func(q pg.Queries) (err error) {
		require.NoError(t, q.LockRun(ctx, run))
		l.number, err = q.AddLeg(ctx, run, store.NewLeg{Key: uuid.NewString(), Recorder: l.recorder, Host: "hydra-2",
			FromStep: from, FromEpoch: math.NaN(), Started: time.Now()})
		return err
	}))
	return l
}

func (l *leg) write(t *testing.T, readings map[string][]curve.Reading) {
	b := curve.Builder{}
	for _, name := range []string{"loss.train", "loss.val"} {
		for _, r := range readings[name] {
			b.Point(r.Point)
			b.Value(name, r.Value)
		}
	}
	batch := b.Batch()
	if len(readings) > 1 { // the axis of several curves is to rise
		sort.SliceStable(batch.Axis, func(i, k int) bool { return batch.Axis[i].Step < batch.Axis[k].Step })
	}
	l.count(t, b.Names, batch)
}

// count makes a batch the leg's next.
func (l *leg) count(t *testing.T, names []string, batch curve.Batch) {
	ids, err := l.f.CurveIDs(ctx, l.run, names)
	require.NoError(t, err)
	for i := range batch.Columns {
		batch.Columns[i].Curve = ids[names[i]]
	}
	l.batch++
	_, err = l.f.CountTogether(ctx, store.Count{Run: l.run, Leg: l.number, Recorder: l.recorder, Number: l.batch,
		Upto: 10 * l.batch, Batch: batch})
	require.NoError(t, err)
}

func at(step int64, value float64) curve.Reading {
	return curve.Reading{Point: curve.Point{Step: step, Epoch: float64(step) / 10, Time: 1000 + step}, Value: value}
}

// Every query is one that the database understands, with the arguments it names.
func TestEveryQueryPrepares(t *testing.T) {
	f := start(t)
	conn, err := f.Pool.Acquire(ctx)
	require.NoError(t, err)
	defer conn.Release()
	count := 0
	for name, text := range f.DB.QueryTexts() {
		rewritten, _, err := pgx.NamedArgs{}.RewriteQuery(ctx, conn.Conn(), text, nil)
		require.NoError(t, err, name)
		_, err = conn.Conn().Prepare(ctx, fmt.Sprint("q", count), rewritten)
		require.NoError(t, err, name)
		count++
	}
	require.Greater(t, count, 50)
}

func TestMigrateAgainChangesNothing(t *testing.T) {
	f := start(t)
	require.NoError(t, f.Migrate(ctx, ""))
	_, err := f.ProjectByKey(ctx, "vessels")
	require.NoError(t, err)
}

// scan reads a span whole.
func scan(t *testing.T, f fixture, span store.Span) map[string][]curve.Reading {
	out := map[string][]curve.Reading{}
	require.NoError(t, f.Scan(ctx, span, func(name string, points []curve.Point, values []float64) error {
		for i, v := range values {
			out[name] = append(out[name], curve.Reading{Point: points[i], Value: v})
		}
		return nil
	}))
	return out
}

func TestScanWholeAndByRange(t *testing.T) {
	f := start(t)
	run := f.run(t)
	l := f.leg(t, run, 0)
	l.write(t, map[string][]curve.Reading{"loss.val": {at(1, 0.5), at(2, math.NaN())}})
	got := scan(t, f, store.Span{Run: run})
	require.Len(t, got["loss.val"], 2)
	require.True(t, math.IsNaN(got["loss.val"][1].Value))
	l.write(t, map[string][]curve.Reading{"loss.val": {at(3, math.Inf(1)), at(4, 0.25)}})
	part := scan(t, f, store.Span{Run: run, From: 3, To: 4, Names: []string{"loss.val", "loss.train"}})
	require.Equal(t, map[string][]curve.Reading{"loss.val": {at(3, math.Inf(1)), at(4, 0.25)}}, part)
}

func TestBatchesCountOnce(t *testing.T) {
	f := start(t)
	run := f.run(t)
	l := f.leg(t, run, 0)
	l.write(t, map[string][]curve.Reading{"loss.val": {at(5, 1)}})
	points := func(from, to int64) curve.Batch {
		return curve.Batch{Axis: []curve.Point{{Step: from}, {Step: to}},
			Columns: []curve.Column{{Curve: 1, Values: []float64{1, 2}}}}
	}
	claim := func(c store.Count) error {
		c.Run, c.Leg, c.Upto = run, 1, 99
		_, together := f.CountTogether(ctx, c)
		if together != nil {
			require.ErrorIs(t, f.InTx(ctx, func(q pg.Queries) error { _, err := q.CountBatch(ctx, c); return err }),
				together, "the same alone")
		}
		return together
	}
	require.ErrorIs(t, claim(store.Count{Number: 1, Recorder: l.recorder}), store.ErrNone, "repeated")
	require.ErrorIs(t, claim(store.Count{Number: 3, Recorder: l.recorder}), store.ErrNone, "gap")
	require.ErrorIs(t, claim(store.Count{Number: 2, Recorder: uuid.NewString()}), store.ErrNone, "another recorder")
	require.ErrorIs(t, claim(store.Count{Number: 2, Recorder: l.recorder, Batch: points(4, 4)}),
		store.ErrNone, "the step falls")
	require.NoError(t, claim(store.Count{Number: 2, Recorder: l.recorder, Batch: points(5, 6)}))
	require.Len(t, scan(t, f, store.Span{Run: run})["loss.val"], 3)
}

// Many recorders at once, each sending every batch twice: each counts once, in order.
func TestCommonCommits(t *testing.T) {
	f := start(t)
	var wait sync.WaitGroup
	legs := make([]*leg, 20)
	for i := range legs {
		legs[i] = f.leg(t, f.run(t), 0)
		_, err := f.CurveIDs(ctx, legs[i].run, []string{"loss.val"})
		require.NoError(t, err)
	}
	for _, l := range legs {
		wait.Go(func() {
			for n := range int64(30) {
				c := store.Count{Run: l.run, Leg: 1, Recorder: l.recorder, Number: n + 1, Upto: n + 1,
					Batch: curve.Batch{
						Axis:    []curve.Point{{Step: n}},
						Columns: []curve.Column{{Curve: 1, Values: []float64{float64(n)}}}}}
				errs := make(chan error, 2)
				for range 2 {
					go func() { _, err := f.CountTogether(ctx, c); errs <- err }()
				}
				one, two := <-errs, <-errs
				if (one == nil) == (two == nil) {
					t.Errorf("batch %d counted %v, %v", n+1, one, two)
				}
			}
		})
	}
	wait.Wait()
	for _, l := range legs {
		got := scan(t, f, store.Span{Run: l.run})["loss.val"]
		require.Len(t, got, 30)
		for n, r := range got {
			require.EqualValues(t, n, r.Value)
		}
	}
}

// slow is what the summaries must come to: all readings of the joined curves, one by one.
func slow(t *testing.T, f fixture, run int64) map[string]curve.Summary {
	out := map[string]curve.Summary{}
	for name, readings := range scan(t, f, store.Span{Run: run}) {
		s := curve.NewSummary()
		for _, r := range readings {
			s.Add(r)
		}
		out[name] = s
	}
	return out
}

// However batches, legs, summarising and sealing interleave, the summaries end as if all were counted at once.
func TestSummariesInAnyOrder(t *testing.T) {
	f := start(t)
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 1))
		run := f.run(t)
		legs, steps := []*leg{f.leg(t, run, 0)}, []int64{0}
		for range 25 {
			switch r.IntN(8) {
			case 0:
				from := r.Int64N(steps[len(steps)-1] + 1)
				legs, steps = append(legs, f.leg(t, run, from)), append(steps, from)
			case 1, 2:
				_, err := f.Summarise(ctx)
				require.NoError(t, err)
			case 3:
				_, err := f.Seal(ctx, curves.SealRule{})
				require.NoError(t, err)
			default:
				i := len(legs) - 1
				if r.IntN(4) == 0 {
					i = r.IntN(len(legs)) // a late batch of an older leg
				}
				var list []curve.Reading
				for range 1 + r.IntN(5) {
					steps[i] += r.Int64N(4)
					v := r.NormFloat64()
					if r.IntN(6) == 0 {
						v = math.NaN()
					}
					list = append(list, at(steps[i], v))
				}
				legs[i].write(t, map[string][]curve.Reading{[]string{"loss.val", "loss.train"}[r.IntN(2)]: list})
			}
		}
		_, err := f.Summarise(ctx)
		require.NoError(t, err)
		want := slow(t, f, run)
		got, err := f.Summaries(ctx, []int64{run}, "")
		require.NoError(t, err)
		// The rows of curves are written from what the run has in one piece: without them it says the same.
		_, err = f.Pool.Exec(ctx,
			"with gone as (delete from curve_summary where run = $1) update run_summary set behind = true where run = $1", run)
		require.NoError(t, err)
		whole, err := f.Summaries(ctx, []int64{run}, "")
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("%+v", got), fmt.Sprintf("%+v", whole))
		named, err := f.Summaries(ctx, []int64{run}, "loss.val")
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("%+v", slices.DeleteFunc(slices.Clone(got),
			func(s store.Summary) bool { return s.Name != "loss.val" })), fmt.Sprintf("%+v", named))
		_, err = f.SummariseRun(ctx, run)
		require.NoError(t, err)
		again, err := f.Summaries(ctx, []int64{run}, "")
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("%+v", got), fmt.Sprintf("%+v", again))
		for _, s := range got {
			w := want[s.Name]
			if s.Name != "loss.val" { // a sketch is kept of the objective's curve only
				w.Sketch.Every, w.Sketch.Values = curve.NoSketch, nil
			}
			require.Equal(t, fmt.Sprintf("%+v", w), fmt.Sprintf("%+v", s.Core()), "seed %d curve %s", seed, s.Name)
			delete(want, s.Name)
		}
		for name, w := range want {
			require.Zero(t, w.Count, "seed %d: no summary of %s", seed, name)
		}
	}
}

// Whoever asks for the summaries of one run gets them, though the ticker is at them at that moment.
func TestSummariesAskedForAreWaitedFor(t *testing.T) {
	f := start(t)
	run := f.run(t)
	f.leg(t, run, 0).write(t, map[string][]curve.Reading{"loss.val": {at(1, 3), at(2, 2)}})
	other, err := f.Pool.Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = other.Rollback(ctx) }()
	var held bool
	require.NoError(t, other.QueryRow(ctx,
		"select pg_try_advisory_xact_lock(7420, hashint8($1::bigint))", run).Scan(&held))
	require.True(t, held)
	released := make(chan error)
	go func() {
		time.Sleep(200 * time.Millisecond)
		released <- other.Rollback(ctx)
	}()
	mine, err := f.SummariseRun(ctx, run)
	require.NoError(t, err)
	require.True(t, mine)
	require.NoError(t, <-released)
	got, err := f.Summaries(ctx, []int64{run}, "")
	require.NoError(t, err)
	require.Len(t, got, 1)
	require.EqualValues(t, 2, got[0].Count)
}

// An event of a transaction that began earlier is not overtaken by one that commits first.
func TestEventsAreNotOvertaken(t *testing.T) {
	f := start(t)
	mark, err := f.EventsNow(ctx)
	require.NoError(t, err)
	slow, err := f.Pool.Begin(ctx)
	require.NoError(t, err)
	_, err = slow.Exec(ctx, "insert into event (kind, verb) values ('run', 'slow')")
	require.NoError(t, err)
	require.NoError(t, f.AddEvent(ctx, store.Event{Kind: "run", Verb: "fast"}))
	events, err := f.EventsAfter(ctx, mark)
	require.NoError(t, err)
	require.Empty(t, events, "the fast one waits for the slow one")
	require.NoError(t, slow.Commit(ctx))
	require.Eventually(t, func() bool { // others on the server may have transactions open
		events, err = f.EventsAfter(ctx, mark)
		return err == nil && len(events) == 2
	}, 10*time.Second, 20*time.Millisecond)
	require.Equal(t, "slow", events[0].Verb)
	rest, err := f.EventsAfter(ctx, events[0].Mark())
	require.NoError(t, err)
	require.Len(t, rest, 1)
	for _, bad := range []string{"", "x", "1", "1-x", "-1-1", "1-1'; drop table event"} {
		_, err := f.EventsAfter(ctx, bad)
		require.Error(t, err, bad)
	}
}

func TestOutputIsBounded(t *testing.T) {
	f := start(t)
	run := f.run(t)
	l := f.leg(t, run, 0)
	for i := range int64(100) {
		o := store.Output{Leg: 1, Stream: "stdout", Start: i * 100, Size: 100, Text: fmt.Sprint("line ", i)}
		require.NoError(t, f.AddOutput(ctx, run, l.recorder, o, 1000))
		require.NoError(t, f.AddOutput(ctx, run, l.recorder, o, 1000), "sent again")
	}
	kept, err := f.ListOutput(ctx, run, 0)
	require.NoError(t, err)
	require.LessOrEqual(t, len(kept), 13)
	require.Equal(t, "line 99", kept[len(kept)-1].Text)
	require.ErrorIs(t, f.AddOutput(ctx, run, uuid.NewString(),
		store.Output{Leg: 1, Stream: "stdout", Start: 1 << 20, Size: 1}, 1000), store.ErrNone)
}
