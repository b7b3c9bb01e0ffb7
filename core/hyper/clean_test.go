package hyper

import (
	"encoding/json"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

func TestClean(t *testing.T) {
	good, bad := Clean(map[string]json.RawMessage{
		"path": json.RawMessage("\"/srv/k\xfcste\""), "lone": json.RawMessage(`"a\ud800b"`),
		"zero": json.RawMessage(`"a\u0000b"`), "list": json.RawMessage(`[1, "x\udfff", 1e-3]`),
		"seed": json.RawMessage("18446744073709551615"), "html": json.RawMessage(`"<b>"`),
		"nest": json.RawMessage(`{"a":1}`), "huge": json.RawMessage("1e999"), "": json.RawMessage("1"),
		"bad=name": json.RawMessage("1"), "none": json.RawMessage("null"),
	})
	want := map[string]string{"path": "\"/srv/k\uFFFDste\"", "lone": "\"a\uFFFDb\"", "zero": "\"a\uFFFDb\"",
		"list": "[1,\"x\uFFFD\",1e-3]", "seed": "18446744073709551615", "html": `"<b>"`}
	require.Len(t, good, len(want))
	for name, v := range want {
		require.Equal(t, v, string(good[name]), name)
	}
	require.Len(t, bad, 5)
}

// What is taken is always JSON that a database takes: UTF-8 without a zero character, and taking it again changes
// nothing.
func FuzzClean(f *testing.F) {
	f.Add([]byte(`"a\ud800"`))
	f.Add([]byte("[1,\"\xff\"]"))
	f.Fuzz(func(t *testing.T, text []byte) {
		v, err := CleanValue(text)
		if err != nil {
			return
		}
		require.True(t, utf8.Valid(v) && json.Valid(v))
		require.NotContains(t, string(v), `\u0000`)
		require.NotContains(t, string(v), `\ud8`)
		again, err := CleanValue(v)
		require.NoError(t, err)
		require.Equal(t, string(v), string(again))
	})
}
