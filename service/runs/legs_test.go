package runs

import (
	"context"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/service/slicetest"
	"kembrel/store"
)

type (
	storage = Storage
	tx      = Tx
)

// quay is a storage of runs and legs in memory.
type quay struct {
	storage
	tx
	h       *slicetest.Harbour
	legs    []store.HeldLeg // of vessels/1
	keys    map[string]int
	states  []string // that the run came to
	notes   []string
	hyper   map[string]json.RawMessage
	started store.Start
	curves  map[string]int
	counted []store.Count
	said    map[string]any
	news    store.LegNews
	seen    int
}

func (q *quay) AddEvent(ctx context.Context, e store.Event) error { return q.h.AddEvent(ctx, e) }

func (q *quay) RunOf(ctx context.Context, run int64) (int64, string, error) {
	return q.h.RunOf(ctx, run)
}

func (q *quay) InTx(_ context.Context, do func(q Tx) error) error { return do(q) }

func (q *quay) LockRun(context.Context, int64) error { return nil }

func (q *quay) LegByKey(_ context.Context, _ int64, key string, _ float64) (store.HeldLeg, error) {
	n, known := q.keys[key]
	if !known {
		return store.HeldLeg{}, store.ErrNone
	}
	return q.legs[n-1], nil
}

func (q *quay) LegKeyElsewhere(_ context.Context, _ int64, key string) (bool, error) {
	return strings.HasPrefix(key, "00000000"), nil
}

func (q *quay) NewestLeg(context.Context, int64, float64) (store.HeldLeg, error) {
	if len(q.legs) == 0 {
		return store.HeldLeg{}, store.ErrNone
	}
	return q.legs[len(q.legs)-1], nil
}

func (q *quay) AddLeg(_ context.Context, _ int64, l store.NewLeg) (int, error) {
	q.legs = append(q.legs, store.HeldLeg{Number: len(q.legs) + 1, Recorder: l.Recorder, State: "running", Host: l.Host,
		Seen: time.Now(), Alive: true})
	q.keys[l.Key] = len(q.legs)
	return len(q.legs), nil
}

func (q *quay) ClaimLeg(_ context.Context, _ int64, leg int, recorder string) error {
	q.legs[leg-1].Recorder = recorder
	return nil
}

func (q *quay) SetRunState(_ context.Context, _ int64, state string, _ *time.Time) (bool, error) {
	q.states = append(q.states, state)
	return true, nil
}

func (q *quay) AddNote(_ context.Context, _ int64, n store.Note) error {
	q.notes = append(q.notes, n.Text)
	return nil
}

func (q *quay) Leg(_ context.Context, _ int64, leg int) (store.LegState, error) {
	if leg > len(q.legs) {
		return store.LegState{}, store.ErrNone
	}
	l := q.legs[leg-1]
	return store.LegState{Number: l.Number, Recorder: l.Recorder, Batches: l.Batches, Upto: l.Upto, LastStep: 40}, nil
}

func (q *quay) EndLeg(_ context.Context, e store.Ending) (bool, error) {
	if e.Recorder != q.legs[e.Leg-1].Recorder {
		return false, store.ErrNone
	}
	q.legs[e.Leg-1].State = e.State
	return e.Leg == len(q.legs), nil
}

func (q *quay) SummariseRun(context.Context, int64) (bool, error) { return true, nil }

func (q *quay) LoseLegs(context.Context, float64) ([]store.LostLeg, error) {
	return []store.LostLeg{{Run: 101, Newest: true}, {Run: 102}}, nil
}

func (q *quay) ReviveLeg(_ context.Context, _ int64, leg int) (bool, error) {
	return leg == len(q.legs), nil
}

func (q *quay) SeeLeg(_ context.Context, _ int64, leg int, recorder string) (string, error) {
	q.seen++
	if q.legs[leg-1].Recorder != recorder {
		return "", store.ErrNone
	}
	return q.legs[leg-1].State, nil
}

func (q *quay) LegNews(_ context.Context, _ int64, leg int) (store.LegNews, error) {
	if leg > len(q.legs) {
		return store.LegNews{}, store.ErrNone
	}
	q.news.Recorder = q.legs[leg-1].Recorder
	return q.news, nil
}

func (q *quay) CachedCurves(context.Context, int64, []string, int) (*store.RunCurves, error) {
	return store.NewRunCurves(q.curves), nil
}

func (q *quay) CurveIDs(_ context.Context, _ int64, names []string) (map[string]int, error) {
	for _, n := range names {
		if _, known := q.curves[n]; !known {
			q.curves[n] = len(q.curves) + 1
		}
	}
	return q.curves, nil
}

func (q *quay) CountBatch(_ context.Context, c store.Count) (store.Counted, error) {
	l := &q.legs[c.Leg-1]
	if l.Recorder != c.Recorder || c.Number != l.Batches+1 || len(c.Batch.Axis) > 0 && c.Batch.Axis[0].Step < 40 {
		return store.Counted{}, store.ErrNone
	}
	before := l.Batches
	l.Batches, l.Upto = c.Number, c.Upto
	q.counted = append(q.counted, c)
	return store.Counted{Leg: c.Leg, State: l.State, Before: before}, nil
}

func (q *quay) CountTogether(ctx context.Context, c store.Count) (store.Counted, error) {
	return q.CountBatch(ctx, c)
}

func (q *quay) SetHyper(_ context.Context, _ int64, values map[string]json.RawMessage) error {
	for k, v := range values {
		q.hyper[k] = v
	}
	return nil
}

func (q *quay) Hyper(context.Context, int64) (map[string]json.RawMessage, error) { return q.hyper, nil }

func (q *quay) StartOf(context.Context, int64) (store.Start, error) { return q.started, nil }

func (q *quay) Recipe(context.Context, int64) (json.RawMessage, error) {
	return json.RawMessage(`{"packages":{"numpy":"1.24","sonar":"2"}}`), nil
}

func (q *quay) ProgramSays(_ context.Context, _ int64, recipe any, _ []string, start any) error {
	q.said = map[string]any{"recipe": recipe, "start": start}
	return nil
}

// judged counts what it is asked for.
type judged struct{ runs []int64 }

func (j *judged) Judge(_ context.Context, run int64) error { j.runs = append(j.runs, run); return nil }

func (j *judged) WatchRuns(context.Context, []int64) error { return nil }

// held finds one checkpoint, and no other.
type held struct{}

func (held) FindHeld(_ context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error) {
	if in.At != "e2" {
		return nil, nil, 0, api.Fail(api.NotFound, "there is no such checkpoint")
	}
	return &api.Checkpoint{Address: "vessels/1@e2", Leg: 1, Step: 80, Epoch: 2}, nil, 1002, nil
}

func fresh() (*Runs, *quay, *judged) {
	h := slicetest.New(2)
	q := &quay{h: h, keys: map[string]int{}, hyper: map[string]json.RawMessage{}, curves: map[string]int{}}
	j := &judged{}
	return New(h.Finder(), q, held{}, j, time.Minute), q, j
}

var one = api.RunInput{ProjectInput: slicetest.In, Number: 1}

func opening() *api.NewLeg {
	in := &api.NewLeg{RunInput: one, Key: uuid.NewString()}
	in.Body.Recorder, in.Body.Host, in.Body.Started = uuid.NewString(), "quay-3", time.Now()
	return in
}

// One recorder writes a leg, one leg a run; who takes over says so.
func TestWhoMayOpenALeg(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	got, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 1, got.Leg)
	require.Equal(t, []string{"running"}, q.states)
	q.legs[0].Batches, q.legs[0].Upto = 3, 40
	again, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	require.EqualValues(t, 3, again.Batch, "the same again is told how far it is")
	require.Len(t, q.legs, 1)

	other := *in
	other.Body.Recorder = uuid.NewString()
	_, err = s.OpenLeg(ctx, who, &other)
	require.True(t, api.Is(err, api.LegClaimed), "the one before is alive")
	other.Body.Previous = []string{in.Body.Recorder}
	_, err = s.OpenLeg(ctx, who, &other)
	require.NoError(t, err, "it is known to be gone")
	require.Equal(t, other.Body.Recorder, q.legs[0].Recorder)

	next := opening()
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "vessels/1 is being recorded: leg 1 on quay-3 was heard of")
	next.Body.TakeOver = true
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "say from which checkpoint")
	next.Body.From = "vessels/1@e9"
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "no such checkpoint")
	next.Body.From = "vessels/1"
	_, err = s.OpenLeg(ctx, who, next)
	require.ErrorContains(t, err, "goes on from a checkpoint")
	next.Body.From = "vessels/1@e2"
	got, err = s.OpenLeg(ctx, who, next)
	require.NoError(t, err)
	require.Equal(t, 2, got.Leg)

	q.legs[1].State, q.legs[1].Alive = "finished", false
	more := opening()
	more.Body.From = "vessels/1@e2"
	_, err = s.OpenLeg(ctx, who, more)
	require.ErrorContains(t, err, "is finished")
	more.Body.More = true
	_, err = s.OpenLeg(ctx, who, more)
	require.NoError(t, err)

	bad := opening()
	bad.Key = "no"
	_, err = s.OpenLeg(ctx, who, bad)
	require.True(t, api.Is(err, api.Invalid))
	bad.Key = "00000000-0000-4000-8000-000000000000"
	_, err = s.OpenLeg(ctx, who, bad)
	require.ErrorContains(t, err, "a leg of another run")
}

// A clock that is wrong is said on the run, and corrected.
func TestWrongClock(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	now := time.Now()
	ctx = act.WithClock(ctx, now.Add(-2*time.Hour), now)
	_, err := s.OpenLeg(ctx, who, opening())
	require.NoError(t, err)
	require.Equal(t, []string{"The clock of quay-3 is 2h0m0s behind the service's. Times are corrected by that; its " +
		"own logs differ from them."}, q.notes)
}

func batch(number int64, recorder string, steps ...int64) *api.BatchInput {
	in := &api.BatchInput{LegInput: api.LegInput{RunInput: one, Leg: 1, Recorder: recorder}}
	in.Body.Number, in.Body.Upto = number, 10*number
	column := api.Column{Name: "loss.val"}
	for _, s := range steps {
		in.Body.Axis.Step = append(in.Body.Axis.Step, s)
		in.Body.Axis.Epoch = append(in.Body.Axis.Epoch, float64(s)/40)
		in.Body.Axis.Time = append(in.Body.Axis.Time, s)
		column.Values = append(column.Values, 1)
	}
	if len(steps) > 0 {
		in.Body.Curves = []api.Column{column}
	}
	return in
}

// A batch counts once; one that came before is told how far the leg is, and what does not fit says why.
func TestBatchesCountOnce(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	_, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	recorder := in.Body.Recorder
	got, err := s.SendBatch(ctx, who, batch(1, recorder, 40, 80))
	require.NoError(t, err)
	require.EqualValues(t, 2, got.Readings)
	require.Equal(t, map[string]int{"loss.val": 1}, q.curves)
	got, err = s.SendBatch(ctx, who, batch(1, recorder, 40, 80))
	require.NoError(t, err)
	require.Equal(t, api.Counted{Leg: 1, Batch: 1, Upto: 10}, *got, "counted before")
	require.Len(t, q.counted, 1)

	_, err = s.SendBatch(ctx, who, batch(4, recorder, 120))
	var p *api.Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, api.BatchGap, p.Kind())
	require.EqualValues(t, 1, p.Batch)
	_, err = s.SendBatch(ctx, who, batch(2, recorder, 3))
	require.ErrorContains(t, err, "goes back from step 40 to step 3")
	_, err = s.SendBatch(ctx, who, batch(2, uuid.NewString(), 120))
	require.True(t, api.Is(err, api.LegClaimed))
	for says, change := range map[string]func(b *api.Batch){
		"steps, 2 epochs":      func(b *api.Batch) { b.Axis.Step = b.Axis.Step[:1] },
		"a name and a number":  func(b *api.Batch) { b.Curves[0].Curve = 1 },
		"neither a name":       func(b *api.Batch) { b.Curves[0].Name = "" },
		"no curve has the":     func(b *api.Batch) { b.Curves[0].Name, b.Curves[0].Curve = "", 9 },
		"there twice":          func(b *api.Batch) { b.Curves = append(b.Curves, b.Curves[0]) },
		"bad/name":             func(b *api.Batch) { b.Curves[0].Name = "bad/name" },
		"no axis and curves":   func(b *api.Batch) { b.Packed = []byte{1} },
		"a number and an upto": func(b *api.Batch) { b.Upto = 0 },
		"at most 10000 notes":  func(b *api.Batch) { b.Notes = make([]api.NewNote, maxNotes+1) },
		"hyperparameter \"lr\"": func(b *api.Batch) {
			b.Hyper = map[string]json.RawMessage{"lr": json.RawMessage(`{`)}
		},
		"would have more than 5": func(b *api.Batch) { b.Curves = manyCurves() },
	} {
		bad := batch(2, recorder, 120, 160)
		change(&bad.Body)
		_, err := s.SendBatch(ctx, who, bad)
		require.ErrorContains(t, err, says)
		require.True(t, api.Is(err, api.Invalid), "%v", err)
	}
	require.Len(t, q.counted, 1, "what is refused leaves nothing")
}

func manyCurves() []api.Column {
	out := make([]api.Column, maxCurves)
	for i := range out {
		out[i] = api.Column{Name: "c" + strings.Repeat("x", i%7) + "." + string(rune('a'+i%26)) + uuid.NewString(),
			Values: api.Floats{1, 2}}
	}
	return out
}

// A leg that was lost and is heard of again runs on.
func TestLostAndHeardOfAgain(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	_, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	require.NoError(t, s.LoseRuns(ctx))
	require.Equal(t, []string{"running", "lost"}, q.states, "the run of a newest leg, no other")
	q.legs[0].State = "lost"
	q.curves["loss.val"] = 1
	_, err = s.SendBatch(ctx, who, batch(1, in.Body.Recorder, 40))
	require.NoError(t, err)
	require.Equal(t, "running", q.states[2])
	require.Contains(t, q.h.Verbs(), "run vessels/1 heard-of-again")
}

// Hyperparameters are fixed by the first reading; what comes later is noted, and what was asked for may be taken late.
func TestHyperparametersAreFixed(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	_, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	say := func(number int64, values string) {
		t.Helper()
		b := batch(number, in.Body.Recorder)
		require.NoError(t, json.Unmarshal([]byte(values), &b.Body.Hyper))
		_, err := s.SendBatch(ctx, who, b)
		require.NoError(t, err)
	}
	say(1, `{"lr":0.1,"depth":3}`)
	require.Len(t, q.hyper, 2)
	q.started.Origin = json.RawMessage(`{"asked":{"dropout":0.5}}`)
	q.legs[0].Batches = 1
	say(2, `{"lr":0.10,"depth":4,"dropout":0.5,"batch":32}`)
	require.Equal(t, []string{"Leg 1 trains with other hyperparameters than the run began with: batch 32 instead of " +
		"none, depth 4 instead of 3. The run keeps those."}, q.notes)
	require.Equal(t, "3", string(q.hyper["depth"]))
	require.Equal(t, "0.5", string(q.hyper["dropout"]))
}

func TestWhatAProgramSays(t *testing.T) {
	s, q, _ := fresh()
	require.ErrorContains(t, s.told(t.Context(), q, 101, 1, &api.ProgramSays{Needs: []string{"../x"}}), "needs")
	seed := int64(17)
	require.NoError(t, s.told(t.Context(), q, 101, 1, &api.ProgramSays{Language: "go 1.26\x00",
		Start: &api.Start{Weights: "fresh", Seed: &seed}}))
	require.Equal(t, map[string]any{"language": "go 1.26\uFFFD"}, q.said["recipe"])
	require.Empty(t, q.notes)
	require.NoError(t, s.told(t.Context(), q, 101, 2, &api.ProgramSays{Packages: map[string]string{"numpy": "1.26",
		"tide": "1"}}))
	require.Equal(t, []string{"Leg 2 runs with other packages: numpy 1.24 → 1.26, sonar 2 → gone, tide new: 1."},
		q.notes)
}

// The newest leg's end is the run's; an older one's is its own.
func TestEndLeg(t *testing.T) {
	s, q, j := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	first := opening()
	_, err := s.OpenLeg(ctx, who, first)
	require.NoError(t, err)
	q.legs[0].Alive = false
	second := opening()
	second.Body.From = "vessels/1@e2"
	_, err = s.OpenLeg(ctx, who, second)
	require.NoError(t, err)
	end := func(leg int, recorder, state string) error {
		in := &api.EndInput{LegInput: api.LegInput{RunInput: one, Leg: leg, Recorder: recorder}}
		odd := 1 << 40
		in.Body.State, in.Body.ExitCode = state, &odd
		_, err := s.EndLeg(ctx, who, in)
		return err
	}
	require.NoError(t, end(1, first.Body.Recorder, "failed"))
	require.False(t, slices.Contains(q.states, "failed"))
	require.True(t, api.Is(end(2, first.Body.Recorder, "finished"), api.LegClaimed))
	require.NoError(t, end(2, second.Body.Recorder, "finished"))
	require.Equal(t, "finished", q.states[len(q.states)-1])
	require.Equal(t, []int64{101, 101}, j.runs)
}

// A recorder hears the stop rule in force, that another leg goes on, and why to stop.
func TestNews(t *testing.T) {
	s, q, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "recorder")
	in := opening()
	_, err := s.OpenLeg(ctx, who, in)
	require.NoError(t, err)
	life := &api.LegInput{RunInput: one, Leg: 1, Recorder: in.Body.Recorder}
	q.news = store.LegNews{LegState: "running", Fresh: true, Newest: 1, State: "running",
		Objective: api.Objective{Curve: "loss.val", Direction: "lower"}}
	news, err := s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Equal(t, "loss.val", news.Objective.Curve)
	require.Empty(t, news.Stop)
	require.Zero(t, q.seen, "what was heard a moment ago is not written")
	q.news.Fresh = false
	_, err = s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Equal(t, 1, q.seen)
	q.news.Stopped = json.RawMessage(`{"why":"Stop rule: no improvement."}`)
	news, err = s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Equal(t, "Stop rule: no improvement.", news.Stop)
	q.news.Newest, q.news.NewestHost = 2, "quay-4"
	news, err = s.ShowLife(ctx, who, life)
	require.NoError(t, err)
	require.Contains(t, news.Stop, "vessels/1 goes on as leg 2 on quay-4")
	life.Recorder = uuid.NewString()
	_, err = s.ShowLife(ctx, who, life)
	require.True(t, api.Is(err, api.LegClaimed))
	life.Leg = 7
	_, err = s.ShowLife(ctx, who, life)
	require.ErrorContains(t, err, "has no leg 7")
}

// What a recorder packed is kept as it came, unless its clock is wrong: then its times are corrected.
func TestPackedBatches(t *testing.T) {
	s, q, _ := fresh()
	q.curves["loss.val"] = 1
	packed := curve.AppendJournal(nil, curve.Batch{Axis: []curve.Point{{Step: 40, Epoch: math.NaN(), Time: 5000}},
		Columns: []curve.Column{{Curve: 1, Values: []float64{0.5}}}})
	got, fresh, err := s.toBatch(t.Context(), 101, api.Batch{Number: 1, Packed: packed})
	require.NoError(t, err)
	require.False(t, fresh)
	require.Equal(t, packed, got.payload)
	require.Equal(t, 1, got.training)
	now := time.Now()
	got, _, err = s.toBatch(act.WithClock(t.Context(), now.Add(time.Hour), now), 101,
		api.Batch{Number: 1, Packed: packed})
	require.NoError(t, err)
	require.Nil(t, got.payload)
	require.EqualValues(t, 5000-3_600_000, got.Axis[0].Time)
	_, _, err = s.toBatch(t.Context(), 101, api.Batch{Number: 1, Packed: packed[:len(packed)-1]})
	require.True(t, api.Is(err, api.Invalid))
}
