package api

import (
	"bytes"
	"encoding/hex"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func thereAndBack[T any](t *testing.T, in T) (out T) {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Format.Marshal(&b, in))
	require.NoError(t, UnmarshalCBOR(b.Bytes(), &out))
	return out
}

func TestCBORKeepsEveryBit(t *testing.T) {
	odd := Floats{0, math.Copysign(0, -1), math.Float64frombits(0x7ff8dead00000001), math.Inf(1), 0.1, 5e-324}
	got := thereAndBack(t, odd)
	for i := range odd {
		require.Equal(t, math.Float64bits(odd[i]), math.Float64bits(got[i]))
	}
	require.Equal(t, Floats{0.5, 2}, thereAndBack(t, Floats{0.5, 2}))
	require.Equal(t, Ints{1, -1, math.MaxInt64, math.MinInt64},
		thereAndBack(t, Ints{1, -1, math.MaxInt64, math.MinInt64}))
	in := Batch{Number: 3, Upto: 9, Axis: Axis{Step: Ints{1, 2}, Epoch: Floats{0.5, math.NaN()},
		Time: Ints{1790000000000, 1790000000001}},
		Curves: []Column{{Curve: 7, Values: Floats{1, 2}}, {Name: "loss.val", Rows: Ints{1}, Values: Floats{0.1}}},
		Notes:  []NewNote{{At: time.Unix(1790000000, 123456789).UTC(), Text: "λ"}}}
	out := thereAndBack(t, in)
	require.True(t, math.IsNaN(out.Axis.Epoch[1]))
	in.Axis.Epoch[1], out.Axis.Epoch[1] = 0, 0
	out.Notes[0].At = out.Notes[0].At.UTC()
	require.Equal(t, in, out)
	require.Nil(t, out.Curves[0].Rows, "no rows stay no rows")
	long := make(Floats, 100_000)
	require.Equal(t, long, thereAndBack(t, long))
}

// Typed arrays as RFC 8746 writes them: the tag, a byte string. Big and little endian, and plain arrays too.
func TestTypedArraysOfOthers(t *testing.T) {
	for text, want := range map[string]Floats{
		"d8554800000000000000400000":       nil, // damaged below
		"d8514" + "4" + "3f800000":         {1},
		"d8524" + "8" + "3ff8000000000000": {1.5},
		"d8554" + "4" + "0000803f":         {1},
		"83010203":                         {1, 2, 3},
		"82f93c00fb3ff8000000000000":       {1, 1.5},
		"d84042ff01":                       {255, 1},
	} {
		data, err := hex.DecodeString(text)
		var got Floats
		if want == nil {
			require.Error(t, UnmarshalCBOR(data, &got))
			continue
		}
		require.NoError(t, err, text)
		require.NoError(t, UnmarshalCBOR(data, &got), text)
		require.Equal(t, want, got, text)
	}
	for text, want := range map[string]Ints{"d84842ff01": {-1, 1}, "d84e44feffffff": {-2}, "d84a44fffffffe": {-2},
		"d84f48ffffffffffffffff": {-1}, "8120": {-1}} {
		data, err := hex.DecodeString(text)
		require.NoError(t, err, text)
		var got Ints
		require.NoError(t, UnmarshalCBOR(data, &got), text)
		require.Equal(t, want, got, text)
	}
	var n Ints
	for _, bad := range []string{"d8554400000000", "d84e43000000", "d85041ff", "d8474" + "8ffffffffffffffff", "60",
		"d84e4", "9bffffffffffffffff"} {
		data, _ := hex.DecodeString(bad)
		require.Error(t, UnmarshalCBOR(data, &n), bad)
	}
}

func FuzzCBOR(f *testing.F) {
	var b bytes.Buffer
	if err := Format.Marshal(&b, Batch{Number: 1, Curves: []Column{{Curve: 1, Values: Floats{0.1}}}}); err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		var batch Batch
		if UnmarshalCBOR(data, &batch) == nil {
			var again bytes.Buffer
			require.NoError(t, Format.Marshal(&again, batch))
		}
	})
}
