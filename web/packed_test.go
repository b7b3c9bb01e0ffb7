package web_test

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/curve"
)

// packed is a batch as the recorder sends it.
func packed(leg api.LegInput, number int64, b curve.Batch) *api.BatchInput {
	return &api.BatchInput{LegInput: leg, Body: api.Batch{Number: number, Upto: number,
		Packed: curve.AppendJournal(nil, b)}}
}

func numbers(t *testing.T, s *served, leg api.LegInput, names ...string) []int {
	in := &api.CurveNames{LegInput: leg}
	in.Body.Names = names
	return call(t, s, api.NameCurves, in).Curves
}

// What comes packed is read back as what comes spelt out.
func TestPackedBatches(t *testing.T) {
	s := serve(t)
	s.project(t)
	spelt, leg := s.leg(t), s.leg(t)
	values := []float64{0.5, math.NaN(), math.Inf(1), math.Copysign(0, -1), 1e-310}
	call(t, s, api.SendBatch, batch(spelt, 1, 1, "loss.val", values...))

	got := numbers(t, s, leg, "host.cpu", "loss.val")
	machine := curve.Batch{Axis: []curve.Point{{Step: 0, Epoch: math.NaN(), Time: 1_790_000_000_000}},
		Columns: []curve.Column{{Curve: got[0], Values: []float64{0.25}}}}
	call(t, s, api.SendBatch, packed(leg, 1, machine))
	// The machine's readings do not fix the hyperparameters.
	call(t, s, api.SendBatch, &api.BatchInput{LegInput: leg,
		Body: api.Batch{Number: 2, Upto: 2, Hyper: map[string]json.RawMessage{"lr": json.RawMessage("0.5")}}})
	require.JSONEq(t, "0.5", string(call(t, s, api.GetRun, &leg.RunInput).Hyper["lr"]))

	b := curve.Batch{Columns: []curve.Column{{Curve: got[1], Values: values},
		{Curve: got[0], Rows: []int{2}, Values: []float64{0.75}}}}
	for i := range values {
		b.Axis = append(b.Axis, curve.Point{Step: int64(i + 1), Epoch: float64(i + 1),
			Time: 1_790_000_000_000 + int64(i)})
	}
	counted := call(t, s, api.SendBatch, packed(leg, 3, b))
	require.EqualValues(t, len(values)+1, counted.Readings)
	require.Equal(t, &api.Counted{Leg: counted.Leg, Batch: 3, Upto: 3}, call(t, s, api.SendBatch, packed(leg, 3, b)),
		"sent twice, counted once")
	read := func(l api.LegInput, name string) *api.Curves {
		return call(t, s, api.GetCurves, &api.CurvesInput{RunInput: l.RunInput, Names: []string{name}, By: "step"})
	}
	want, have := read(spelt, "loss.val"), read(leg, "loss.val")
	require.Len(t, have.Axes[0].Step, len(values))
	require.Equal(t, plain(t, want), plain(t, have))
	require.Equal(t, api.Floats{0.25, 0.75}, read(leg, "host.cpu").Curves[0].Value)
}

func plain(t *testing.T, v any) string {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

// A packed batch that is not right is refused whole, with what is wrong.
func TestPackedBatchesRefused(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	id := numbers(t, s, leg, "loss.val")[0]
	one := func(columns ...curve.Column) curve.Batch {
		return curve.Batch{Axis: []curve.Point{{Step: 1, Epoch: 1, Time: 1}}, Columns: columns}
	}
	column := func(curveID int) curve.Column { return curve.Column{Curve: curveID, Values: []float64{1}} }
	for says, b := range map[string]curve.Batch{
		"no curve has the number 0":         one(column(0)),
		"no curve has the number 2":         one(column(2)),
		"no curve has the number 999999999": one(column(999999999)),
		"is there twice":                    one(column(id), column(id)),
		"goes back from step": {Axis: []curve.Point{{Step: 2}, {Step: 1}},
			Columns: []curve.Column{{Curve: id, Values: []float64{1, 2}}}},
		"has epoch -3": {Axis: []curve.Point{{Step: 2, Epoch: -3}},
			Columns: []curve.Column{column(id)}},
	} {
		refuse(t, s, api.SendBatch, packed(leg, 1, b), api.Invalid, says)
	}
	whole := packed(leg, 1, one(column(id)))
	cut := packed(leg, 1, one(column(id)))
	cut.Body.Packed = cut.Body.Packed[:5]
	refuse(t, s, api.SendBatch, cut, api.Invalid, "damaged journal payload")
	both := packed(leg, 1, one(column(id)))
	both.Body.Curves = []api.Column{{Name: "loss.val", Values: api.Floats{1}}}
	refuse(t, s, api.SendBatch, both, api.Invalid, "no axis and curves beside them")
	large := &api.BatchInput{LegInput: leg, Body: api.Batch{Number: 1, Upto: 1, Packed: make([]byte, api.MaxPacked+1)}}
	refuse(t, s, api.SendBatch, large, api.Invalid, "at most 4194304 bytes")
	call(t, s, api.SendBatch, whole) // its turn is still to come
}
