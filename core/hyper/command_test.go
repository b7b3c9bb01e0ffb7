package hyper

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSubstitute(t *testing.T) {
	raw := func(s string) json.RawMessage { return json.RawMessage(s) }
	for _, x := range []struct{ command, name, old, value, want string }{
		{"harbour train --lr 0.03 --epochs 9", "lr", "0.03", "0.001", "harbour train --lr 0.001 --epochs 9"},
		{"train --lr=3e-2", "lr", "0.03", "0.001", "train --lr=0.001"},
		{"train -lr 0.03", "lr", "0.03", "1", "train -lr 1"},
		{"train.py lr=0.03", "lr", "0.03", "1", "train.py lr=1"},
		{"train --learning-rate 0.03", "net.learning_rate", "0.03", "1", "train --learning-rate 1"},
		{"train --hidden 64,32", "hidden", "[64,32]", "[8]", "train --hidden 8"},
		{"train --hidden [64,32]", "hidden", "[64,32]", "[8]", "train --hidden [8]"},
		{"train --optimiser adam", "optimiser", `"adam"`, `"momentum"`, "train --optimiser momentum"},
		{"train --lr 0.5", "lr", "0.03", "1", ""}, // not the recorded value
		{"train lr 0.03", "lr", "0.03", "1", ""},  // not an option
		{"train --lr", "lr", "0.03", "1", ""},
		{"train --slr 0.03", "lr", "0.03", "1", ""},
	} {
		command := strings.Fields(x.command)
		got, found := Substitute(command, x.name, raw(x.old), raw(x.value))
		if x.want == "" {
			x.want = x.command
			require.False(t, found, x.command)
		}
		require.Equal(t, x.want, strings.Join(got, " "))
		require.Equal(t, strings.Fields(x.command), command, "the command given is left alone")
	}
}

func TestEqual(t *testing.T) {
	for _, pair := range [][2]string{{"1", "1.0"}, {"1e-1", "0.1"}, {`[1,2,"a"]`, `[1.0,2,"a"]`},
		{"true", "true"}, {`"x"`, `"x"`}} {
		require.True(t, Equal(json.RawMessage(pair[0]), json.RawMessage(pair[1])), pair)
	}
	for _, pair := range [][2]string{{"1", `"1"`}, {"0.1", "0.10000000000000001"}, {"[1]", "1"}, {"1", "[1]"},
		{"true", "1"}, {"[1,2]", "[1]"}, {"x", "x"}} {
		require.False(t, Equal(json.RawMessage(pair[0]), json.RawMessage(pair[1])), pair)
	}
}
