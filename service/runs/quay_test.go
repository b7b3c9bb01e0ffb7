package runs

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
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

func (q *quay) UnstopRun(context.Context, int64) error { return nil }

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
