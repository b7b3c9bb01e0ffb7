package filter

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The document lists the fields as they are declared. KEMBREL_WRITE=1 writes it.
func TestFieldsAreDocumented(t *testing.T) {
	const path, begin, end = "../../docs/filter.md", "| field | kind | what |\n|---|---|---|\n", "\n\n"
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), begin)
	require.True(t, found)
	_, after, found := strings.Cut(rest, end)
	require.True(t, found)
	var rows []string
	for _, f := range Fields {
		says := f.Says
		if few := Few[f.Name]; few != nil {
			says += " `" + strings.Join(few, "`, `") + "`"
		}
		rows = append(rows, fmt.Sprintf("| `%s` | %s | %s |", f.Name, f.Kind, says))
	}
	want := before + begin + strings.Join(rows, "\n") + end + after
	if os.Getenv("KEMBREL_WRITE") != "" {
		require.NoError(t, os.WriteFile(path, []byte(want), 0o644))
	}
	require.Equal(t, want, string(text), "KEMBREL_WRITE=1 go test ./core/filter writes it")
}

func TestFields(t *testing.T) {
	require.True(t, slices.IsSorted(runs.names()))
	for _, f := range Fields {
		require.NotEmpty(t, f.Label, f.Name)
		text := append(slices.Clone(Few[f.Name]), "a")[0]
		n, err := Parse(map[Kind]string{Number: f.Name + " > 1", Text: f.Name + " == " + strconv.Quote(text),
			Time: f.Name + ` > ago("7d")`,
			List: `"a" in ` + f.Name, Truth: f.Name}[f.Kind], time.Now())
		require.NoError(t, err, f.Name)
		require.Equal(t, Truth, n.Kind)
	}
	_, ok := runs.field("weather")
	require.False(t, ok)
	_, err := Parse(`weather == "fog"`, time.Now())
	require.ErrorContains(t, err, "step, tags, title")
}
