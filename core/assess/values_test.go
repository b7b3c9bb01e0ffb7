package assess_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// npy is a two-dimensional array of float64 as a file.
func npy(rows, columns int, values []float64) *bytes.Reader {
	head := fmt.Sprintf("{'descr': '<f8', 'fortran_order': False, 'shape': (%d, %d), }", rows, columns)
	head += strings.Repeat(" ", 63-(10+len(head))%64) + "\n"
	out := binary.LittleEndian.AppendUint16([]byte("\x93NUMPY\x01\x00"), uint16(len(head)))
	out = append(out, head...)
	for _, v := range values {
		out = binary.LittleEndian.AppendUint64(out, math.Float64bits(v))
	}
	return bytes.NewReader(out)
}

// Areas are computed from the scores as they were given, however small or far from 0 they are: only their order counts.
func TestAreasOfScoresAsGiven(t *testing.T) {
	const examples = 400
	r := rand.New(rand.NewPCG(3, 4))
	var lines strings.Builder
	scores := make([]float64, 2*examples)
	for i := range examples {
		is := r.IntN(2)
		fmt.Fprintf(&lines, "{\"key\":\"clip-%d\",\"true\":%d}\n", i, is)
		for c := range 2 {
			scores[2*i+c] = r.NormFloat64()
		}
		scores[2*i+is]++
	}
	areas := func(change func(float64) float64) (out []float64) {
		changed := make([]float64, len(scores))
		for i, v := range scores {
			changed[i] = change(v)
		}
		s, err := sheet.Read(sheet.Says{Task: sheet.Classes, Classes: []string{"tug", "ferry"}}, map[string]sheet.File{
			sheet.ExamplesFile: strings.NewReader(lines.String()), sheet.ScoresFile: npy(examples, 2, changed)})
		require.NoError(t, err)
		for _, c := range assess.Of(s).Classes {
			out = append(out, *c.Area, *c.Average)
		}
		return out
	}
	want := areas(func(v float64) float64 { return v })
	require.Greater(t, want[0], 0.6)
	for name, change := range map[string]func(float64) float64{
		"tiny":                func(v float64) float64 { return v * 1e-9 },
		"tiny beside 1":       func(v float64) float64 { return 1 + v*1e-9 },
		"far below 0":         func(v float64) float64 { return v - 1e6 },
		"below what 32 holds": func(v float64) float64 { return v * 1e-60 },
	} {
		require.InDeltaSlice(t, want, areas(change), 1e-9, name)
	}
}
