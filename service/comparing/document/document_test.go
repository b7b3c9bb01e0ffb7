package document

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What others wrote is text in a Markdown document: no HTML, no link, no picture, no code, no command for a terminal,
// no new cell.
func TestBar(t *testing.T) {
	for given, want := range map[string]string{
		"Wide net, lr 0.03":               "Wide net, lr 0.03",
		"<img src=x onerror=alert(1)>":    "&lt;img src=x onerror=alert(1)&gt;",
		"a|b":                             `a\|b`,
		"![x](http://harbour.example/x)":  `!\[x\](http://harbour.example/x)`,
		"`rm -rf`":                        "'rm -rf'",
		"two\nlines\r\x1b[31m":            `two lines\r\x1b\[31m`,
		"*loud* loss_val":                 `\*loud\* loss\_val`,
		"&lt;script&gt; \u202egnp\u200b.": `&amp;lt;script&amp;gt; \u202egnp\u200b.`,
	} {
		require.Equal(t, want, bar(given))
	}
	require.Equal(t, "'=1+1", unquoted(`"=1+1"`))
	require.Equal(t, "-0.5", unquoted("-0.5"))
}
