package runs

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/service/slicetest"
)

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
