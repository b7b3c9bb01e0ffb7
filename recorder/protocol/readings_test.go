package protocol

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var plainLines = []string{
	`{"kind":"readings","id":7,"step":480,"epoch":12.0,"time":1790000000000,"values":{"loss.val":0.4127,"loss.train":0.31}}`,
	`{"kind":"readings","step":0,"values":{"a":-0.0}}`,
	`{"kind":"readings","id":1,"step":3,"values":{"a":1e-300,"b":1E+2,"c":0}}`,
}

// The plain form is read by itself, and all else as ever; to whoever asks there is no difference.
func TestParserReadsThePlainForm(t *testing.T) {
	var p Parser
	for _, line := range plainLines {
		m, ok := p.plain([]byte(line), time.UnixMilli(5))
		require.True(t, ok, line)
		same(t, line, m, nil)
	}
	for _, line := range []string{
		`{"kind":"readings","step":480,"values":{"train/loss":1}}`,
		`{"kind":"readings","step":480,"values":{"a":"NaN"}}`, `{"kind":"readings","step":480,"values":{"a":1,"a":2}}`,
		`{"kind":"readings","step":[1,2],"values":{"a":[1,2]}}`, `{"kind":"readings","step":01,"values":{"a":1}}`,
		`{"kind":"readings","step":1,"values":{"a":1.}}`,
		`{"kind":"readings","step":1,"values":{"a":1e999}}`, `{"kind":"readings","step":1.0,"values":{"a":1}}`,
		`{"kind":"readings","epoch":3,"values":{"a":1}}`,
		`{"kind":"readings","step":1,"values":{}}`, `{"kind":"readings","step":1,"values":{"a":1}} `,
		`{"kind":"readings","step":1,"step":2,"values":{"a":1}}`, `{"kind":"note","text":"x"}`,
		`{"kind":"readings","step":1,"values":{"\u0061":1}}`,
		`{"kind":"readings","step":1,"epoch":-1,"values":{"a":1}}`,
		`{"kind":"readings","step":9223372036854775808,"values":{"a":1}}`,
	} {
		_, ok := p.plain([]byte(line), time.UnixMilli(5))
		require.False(t, ok, line)
	}
}

// same requires that Parse reads a line likewise.
func same(t *testing.T, line string, got Message, gotErr error) {
	want, err := Parse([]byte(line), time.UnixMilli(5))
	require.Equal(t, fmt.Sprint(err), fmt.Sprint(gotErr), line)
	require.Equal(t, []any{want.Kind, want.ID, want.Names, len(want.Batch.Axis)},
		[]any{got.Kind, got.ID, got.Names, len(got.Batch.Axis)}, line)
	for i, p := range want.Batch.Axis {
		q := got.Batch.Axis[i]
		require.Equal(t, []any{p.Step, p.Time, math.Float64bits(p.Epoch)},
			[]any{q.Step, q.Time, math.Float64bits(q.Epoch)}, line)
	}
	for i, c := range want.Batch.Columns {
		require.Equal(t, c.Curve, got.Batch.Columns[i].Curve, line)
		require.Equal(t, len(c.Values), len(got.Batch.Columns[i].Values), line)
		for k, v := range c.Values {
			require.Equal(t, math.Float64bits(v), math.Float64bits(got.Batch.Columns[i].Values[k]), line)
		}
	}
}

func FuzzParser(f *testing.F) {
	for _, line := range plainLines {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		var p Parser
		if m, ok := p.plain([]byte(line), time.UnixMilli(5)); ok {
			same(t, line, m, nil)
		}
	})
}
