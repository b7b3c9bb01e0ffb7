package hyper

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"lr=0.01": `0.01`, "layers=[384,6]": `[384,6]`, "on=true": `true`, "name=two words": `"two words"`,
		"seed=18446744073709551615": `18446744073709551615`,
		"version=1.2.3":             `"1.2.3"`, "empty=": `""`, "none=null": `"null"`, "a.b=1": `1`,
		`quoted="x"`: `"x"`, "x=NaN": `"NaN"`,
	} {
		name, value, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, strings.SplitN(text, "=", 2)[0], name)
		require.Equal(t, want, string(value))
	}
	for _, bad := range []string{"lr", "=1", "a..b=1", "x=1e999", "x=[[1]]", "x=[{}]", " =1", "a\nb=1"} {
		_, _, err := Parse(bad)
		require.Error(t, err, bad)
	}
}

func TestCheck(t *testing.T) {
	raw := func(text string) map[string]json.RawMessage {
		return map[string]json.RawMessage{"x": json.RawMessage(text)}
	}
	for _, good := range []string{`1`, `-0.5e-3`, `0.0e-9`, `5e-324`, `true`, `"tanh"`, `[]`, `[1,"a",false]`} {
		require.NoError(t, Check(raw(good)), good)
	}
	for _, bad := range []string{`null`, `{}`, `{"a":1}`, `[null]`, `[[1]]`, `1e400`, `1e-999999999`, `0e-999999999`, `"a\u0000b"`, `nonsense`,
		`0.` + strings.Repeat("3", 2000),
		`"` + strings.Repeat("x", MaxText) + `"`} {
		require.Error(t, Check(raw(bad)), bad)
	}
	many := map[string]json.RawMessage{}
	for i := range MaxCount + 1 {
		many[strings.Repeat("a", i%190+1)+string(rune('a'+i/190))] = json.RawMessage(`1`)
	}
	require.ErrorContains(t, Check(many), "too many")
}
