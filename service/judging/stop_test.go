package judging

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/slicetest"
	"kembrel/store"
)

type storage = Storage

// mole is a storage of runs with rules and one curve in memory.
type mole struct {
	storage
	h        *slicetest.Harbour
	rows     map[int64]store.Judgement
	values   map[int64][]float64 // of loss.val, a reading an epoch
	ruleOf   json.RawMessage     // of the project
	verdicts map[int64]any
	atBest   map[int64][]*float64
	bad      map[int64]bool // runs whose readings cannot be read
	read     int            // readings handed over
	origins  map[int64]json.RawMessage
}

func (m *mole) AddEvent(ctx context.Context, e store.Event) error { return m.h.AddEvent(ctx, e) }

func (m *mole) RunOf(ctx context.Context, run int64) (int64, string, error) {
	return m.h.RunOf(ctx, run)
}

func (m *mole) InTx(_ context.Context, do func(q Tx) error) error { return do(m) }

func (m *mole) ListLegs(ctx context.Context, run int64) ([]store.Leg, error) {
	return m.h.ListLegs(ctx, run)
}

func (m *mole) RunsWithRules(_ context.Context, runs []int64) ([]int64, error) { return runs, nil }

func (m *mole) Judgements(_ context.Context, runs []int64) (out []store.Judgement, err error) {
	for _, r := range runs {
		if row, there := m.rows[r]; there {
			out = append(out, row)
		}
	}
	return out, nil
}

func (m *mole) Scan(_ context.Context, s store.Span, each func(string, []curve.Point, []float64) error) error {
	if m.bad[s.Run] {
		return errors.New("a block is damaged")
	}
	var points []curve.Point
	var values []float64
	for i, v := range m.values[s.Run] {
		if p := point(i); p.Step >= s.From && slices.Contains(s.Names, "loss.val") {
			points, values = append(points, p), append(values, v)
		}
	}
	m.read += len(values)
	return each("loss.val", points, values)
}

func point(i int) curve.Point {
	return curve.Point{Step: int64(40 * (i + 1)), Epoch: float64(i + 1), Time: int64(2000 * i)}
}

func (m *mole) View(_ context.Context, s store.Span, w curve.Window, _ curve.Smoothing) (map[string]store.Folded,
	error) {
	r := curve.Reducer{Window: w}
	for i, v := range m.values[s.Run] {
		if p := point(i); s.To == 0 || p.Step <= s.To {
			r.Readings([]curve.Point{p}, []float64{v})
		}
	}
	return map[string]store.Folded{"loss.val": {Folds: r.Folds}}, nil
}

func (m *mole) Extent(_ context.Context, run int64, _ curve.By) (float64, float64, bool, error) {
	return 1, float64(len(m.values[run])), len(m.values[run]) > 0, nil
}

func (m *mole) Summaries(_ context.Context, runs []int64, _ string) (out []store.Summary, err error) {
	for _, run := range runs {
		values := m.values[run]
		if len(values) == 0 {
			continue
		}
		low := 0
		for i, v := range values {
			if v < values[low] {
				low = i
			}
		}
		last := point(len(values) - 1)
		out = append(out, store.Summary{Run: run, Curve: 1, Name: "loss.val", Count: int64(len(values)),
			LowValue: values[low], LowStep: point(low).Step, LowEpoch: point(low).Epoch,
			LastValue: values[len(values)-1], LastEpoch: last.Epoch, LastStep: last.Step, HighValue: values[0]})
	}
	return out, nil
}

func (m *mole) RunOrigin(_ context.Context, run int64) (json.RawMessage, error) {
	return m.origins[run], nil
}

func (m *mole) StopRun(_ context.Context, run int64, stopped any) (bool, error) {
	row := m.rows[run]
	row.Stopped, _ = json.Marshal(stopped)
	running := row.State == "running"
	m.rows[run] = row
	return running, nil
}

func (m *mole) SetStopped(_ context.Context, run int64, _ json.RawMessage, stopped any) (bool, error) {
	row := m.rows[run]
	first := row.Stopped == nil
	text, err := json.Marshal(stopped)
	row.Stopped = text
	m.rows[run] = row
	return first, err
}

func (m *mole) CheckpointBefore(_ context.Context, _ int64, step int64) (int64, float64, error) {
	if step < 80 {
		return 0, 0, store.ErrNone
	}
	return 80, 2, nil
}

func (m *mole) ProjectStopRule(context.Context, int64) (json.RawMessage, error) { return m.ruleOf, nil }

func (m *mole) SetProjectStopRule(_ context.Context, _ int64, rule any) (err error) {
	m.ruleOf, err = json.Marshal(rule)
	return err
}

func (m *mole) SetRunStopRule(_ context.Context, run int64, rule any) (err error) {
	row := m.rows[run]
	row.Rule, err = json.Marshal(rule)
	row.Own = rule != nil
	if rule == nil {
		row.Rule = m.ruleOf
	}
	m.rows[run] = row
	return err
}

func (m *mole) SetVerdict(_ context.Context, run int64, v any) (bool, error) {
	m.verdicts[run] = v
	return true, nil
}

func (m *mole) SetAtBest(_ context.Context, run int64, _ []int, values []*float64, _ *int64) error {
	m.atBest[run] = values
	return nil
}

func (m *mole) SetSketch(context.Context, int64, int, curve.Sketch) error { return nil }

func (m *mole) DisputeVerdict(_ context.Context, run int64, dispute any) (err error) {
	row := m.rows[run]
	row.Dispute = nil
	if dispute != nil {
		row.Dispute, err = json.Marshal(dispute)
	}
	m.rows[run] = row
	return err
}

var loss = verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}

func fresh(runs int) (*Judging, *mole) {
	h := slicetest.New(runs)
	m := &mole{h: h, rows: map[int64]store.Judgement{}, values: map[int64][]float64{}, verdicts: map[int64]any{},
		atBest: map[int64][]*float64{}, bad: map[int64]bool{}}
	for n := 1; n <= runs; n++ {
		id := int64(100 + n)
		m.rows[id] = store.Judgement{ID: id, Project: "vessels", Number: n, Objective: loss, State: "running",
			Rule: json.RawMessage(`{"patience":3}`), Epochs: math.NaN()}
		h.Legs[id] = []store.Leg{{Number: 1}}
	}
	return New(h.Finder(), m), m
}

// A rule says stop once, on the reading that crosses it, however the readings come in; what was seen is not read again.
func TestRuleSaysStopOnce(t *testing.T) {
	s, m := fresh(1)
	for _, v := range []float64{0.9, 0.5, 0.6, 0.6} {
		m.values[101] = append(m.values[101], v)
		require.NoError(t, s.WatchRuns(t.Context(), []int64{101}))
	}
	require.Less(t, m.read, 8, "only what came since, and the last step once more")
	require.Nil(t, m.rows[101].Stopped)
	state, err := s.StopState(t.Context(), 101)
	require.NoError(t, err)
	require.EqualValues(t, 1, state.Left)
	m.values[101] = append(m.values[101], 0.7)
	for range 3 {
		require.NoError(t, s.WatchRuns(t.Context(), []int64{101}))
	}
	require.Equal(t, []string{"run vessels/1 told-to-stop"}, m.h.Verbs())
	state, err = s.StopState(t.Context(), 101)
	require.NoError(t, err)
	require.EqualValues(t, 5, state.Stopped.At.Epoch)
	require.Equal(t, "vessels/1@e2", state.Stopped.Checkpoint)
	require.Contains(t, state.Stopped.Why, "no improvement of loss.val in 3 epochs")
}

// After a start, or with another rule or a new leg, the watch is built anew from all readings, and says the same.
func TestWatchIsBuiltAnew(t *testing.T) {
	s, m := fresh(1)
	m.values[101] = []float64{0.9, 0.5, 0.6}
	require.NoError(t, s.WatchRuns(t.Context(), []int64{101}))
	again := New(m.h.Finder(), m)
	m.values[101] = append(m.values[101], 0.6, 0.6)
	require.NoError(t, again.WatchRuns(t.Context(), []int64{101}))
	require.NotNil(t, m.rows[101].Stopped)
	row := m.rows[101]
	row.Stopped, row.Rule = nil, json.RawMessage(`{"patience":9}`)
	m.rows[101] = row
	require.NoError(t, s.WatchRuns(t.Context(), []int64{101}))
	require.Nil(t, m.rows[101].Stopped)
	m.h.Legs[101] = append(m.h.Legs[101], store.Leg{Number: 2})
	m.read = 0
	require.NoError(t, s.WatchRuns(t.Context(), []int64{101}))
	require.Equal(t, 5, m.read, "a later leg may replace what was seen")
}

// A run whose readings cannot be read does not keep the others from their rules.
func TestOneBadRun(t *testing.T) {
	s, m := fresh(2)
	m.bad[101] = true
	m.values[102] = []float64{0.5, 0.6, 0.6, 0.6}
	require.ErrorContains(t, s.WatchRuns(t.Context(), []int64{101, 102}), "stop rule of run 101: a block is damaged")
	require.NotNil(t, m.rows[102].Stopped)
}

func TestRulesOfProjectAndRun(t *testing.T) {
	s, m := fresh(1)
	ctx, who := slicetest.Ctx(t.Context(), "owner")
	set := &api.RuleInput{ProjectInput: slicetest.In, Body: api.StopRule{Patience: 4}}
	state, err := s.SetStopRule(ctx, who, set)
	require.NoError(t, err)
	require.Equal(t, "project", state.From)
	own := &api.RunRuleInput{RunInput: api.RunInput{ProjectInput: slicetest.In, Number: 1}}
	_, err = s.SetRunRule(ctx, who, own)
	require.ErrorContains(t, err, "give a rule, or say none")
	own.Body.None = true
	state, err = s.SetRunRule(ctx, who, own)
	require.NoError(t, err)
	require.Nil(t, state.Rule)
	require.Equal(t, "run", state.From)
	state, err = s.DropRunRule(ctx, who, &own.RunInput)
	require.NoError(t, err)
	require.EqualValues(t, 4, state.Rule.Patience, "the project's again")
	m.values[101] = []float64{0.5, 0.6, 0.6}
	own.Body.None, own.Body.Rule = false, &api.StopRule{Patience: 2}
	state, err = s.SetRunRule(ctx, who, own)
	require.NoError(t, err)
	require.NotNil(t, state.Stopped, "it says stop on what is there")
	set.Body = api.StopRule{Objective: api.Objective{Curve: "loss.val", Direction: "down"}, Patience: 1}
	_, err = s.SetStopRule(ctx, who, set)
	require.True(t, api.Is(err, api.Invalid))
	state, err = s.DropStopRule(ctx, who, &slicetest.In)
	require.NoError(t, err)
	require.Equal(t, "none", state.From)
	require.Equal(t, []string{"project vessels stop-rule-set", "run vessels/1 stop-rule-set",
		"run vessels/1 stop-rule-cleared", "run vessels/1 stop-rule-set", "run vessels/1 told-to-stop",
		"project vessels stop-rule-cleared"}, m.h.Verbs())
}

func TestTryStopRule(t *testing.T) {
	s, m := fresh(2)
	m.values[101] = []float64{0.9, 0.5, 0.6, 0.6, 0.4}
	m.values[102] = []float64{0.9, 0.8, 0.7}
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := &api.TryInput{ProjectInput: slicetest.In}
	in.Body.Rule, in.Body.Runs = api.StopRule{Patience: 2}, []int{1, 2}
	got, err := s.TryStopRule(ctx, who, in)
	require.NoError(t, err)
	require.EqualValues(t, 4, got.Runs[0].Stop.Epoch)
	require.InDelta(t, 0.1, float64(got.Runs[0].Lost), 1e-9)
	require.EqualValues(t, 1, got.Runs[0].SavedEpochs)
	require.Nil(t, got.Runs[1].Stop)
	require.Empty(t, m.h.Events)
	in.Body.Runs = []int{9}
	_, err = s.TryStopRule(ctx, who, in)
	require.ErrorContains(t, err, "there is no run vessels/9")
}

// What the curves say is kept, with what each was when the objective was best.
func TestJudge(t *testing.T) {
	s, m := fresh(1)
	for i := range 40 {
		m.values[101] = append(m.values[101], 1-0.02*float64(i))
	}
	require.NoError(t, s.Judge(t.Context(), 101))
	got := m.verdicts[101].(*api.Verdict)
	require.Equal(t, "improving", got.Kind)
	require.InDelta(t, 2, float64(got.Pace), 1e-9, "seconds an epoch")
	require.InDelta(t, 0.22, *m.atBest[101][0], 1e-9)
	m.values[101] = []float64{1, math.NaN()}
	require.NoError(t, s.Judge(t.Context(), 101))
	require.Equal(t, "diverged", m.verdicts[101].(*api.Verdict).Kind)
	require.NoError(t, s.Judge(t.Context(), 999), "a run that is gone")
}

// A branch's curves stand behind its parent's, up to the checkpoint.
func TestAncestry(t *testing.T) {
	s, m := fresh(2)
	m.values[101] = []float64{1, 0.5, 0.4, 0.3}
	names := []string{"loss.val", "loss.train"}
	for text, want := range map[string]int{`{"kind":"branch","from":"vessels/1@e2","step":80}`: 2,
		`{"kind":"rerun","from":"vessels/1"}`: 0, `{"kind":"branch","from":"vessels/99@e2","step":80}`: 0,
		`{"kind":"branch","from":"of before","step":80}`: 0} {
		m.origins = map[int64]json.RawMessage{102: json.RawMessage(text)}
		got, err := s.ancestry(act.ByItself(t.Context()), 102, names, curve.ByEpoch)
		require.NoError(t, err, text)
		require.Len(t, got.val.X, want, text)
	}
	got, err := s.ancestry(t.Context(), 101, names, curve.ByEpoch)
	require.NoError(t, err)
	require.Empty(t, got.val.X)
}
