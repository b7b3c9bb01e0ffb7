package plain

import (
	"bytes"
	"testing"
	"unicode"

	"github.com/stretchr/testify/require"
)

func TestVisible(t *testing.T) {
	for given, want := range map[string]string{
		"Wide net, lr 0.03":         "Wide net, lr 0.03",
		"Grüße, 船 €":                "Grüße, 船 €",
		"\x1b[2J\x1b]0;owned\x07":   `\x1b[2J\x1b]0;owned\x07`,
		"good\rbad":                 `good\rbad`,
		"a\nb\tc":                   `a\nb\tc`,
		"\u202egnp.exe":             `\u202egnp.exe`,
		"zero\u200bwidth\u2066x":    `zero\u200bwidth\u2066x`,
		"\u009b31m":                 `\x9b31m`,
		"not \xff utf8 \uFFFD kept": `not \xff utf8 ` + "\uFFFD kept",
	} {
		require.Equal(t, want, Line(given))
		require.Equal(t, want, Line(want), "again changes nothing")
	}
	require.Equal(t, "a\nb\tc\\r", Text("a\nb\tc\r"))
}

func TestCell(t *testing.T) {
	for given, want := range map[string]string{"=1+1": "'=1+1", "@SUM(A1)": "'@SUM(A1)", "-x": "'-x", "+x": "'+x",
		"plain": "plain", "a=b": "a=b", "": "", "\t=1": "'\t=1", "\r=1": `\r=1`} {
		require.Equal(t, want, Cell(given))
	}
	require.Equal(t, "a\uFFFDb\nc\uFFFD", XML("a\x1bb\nc\x00"))
}

// However a text is cut into writes, the same comes out, and nothing of it commands a terminal.
func FuzzWriter(f *testing.F) {
	f.Add("Grüße\x1b[31m\r€\n", 3)
	f.Fuzz(func(t *testing.T, text string, cut int) {
		cut = max(0, min(cut, len(text)))
		var whole, pieces bytes.Buffer
		one, two := &Writer{To: &whole}, &Writer{To: &pieces}
		one.Write([]byte(text))
		two.Write([]byte(text[:cut]))
		two.Write([]byte(text[cut:]))
		require.Equal(t, whole.String(), pieces.String())
		for _, r := range whole.String() {
			require.True(t, r == '\n' || r == '\t' || !unicode.IsControl(r), "%q", r)
		}
	})
}
