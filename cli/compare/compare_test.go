package compare

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/cli/term"
)

func TestSameProject(t *testing.T) {
	project, numbers, err := term.SameProject([]string{"vessels/3", "7"}, "")
	require.NoError(t, err)
	require.Equal(t, "vessels", project)
	require.Equal(t, []int{3, 7}, numbers)
	for _, c := range []struct {
		args    []string
		project string
		says    string
	}{
		{[]string{"3"}, "", "run 3 of which project"}, {[]string{"vessels/3", "buoys/1"}, "",
			"buoys/1 is not a run of vessels"},
		{[]string{"buoys/1"}, "vessels", "not a run of vessels"}, {[]string{"vessels"}, "", "names a project"},
		{[]string{"vessels/3@best"}, "", "names a checkpoint"},
	} {
		_, _, err := term.SameProject(c.args, c.project)
		require.ErrorContains(t, err, c.says)
	}
}

// What differs between many settings with long values stays within the terminal.
func TestFactTablesFit(t *testing.T) {
	c := &api.Comparison{Project: "vessels"}
	long := api.FactRow{Section: "hyperparameter", Name: "a.very.long.name.of.a.hyperparameter.indeed"}
	command := api.FactRow{Section: "command", Name: "command"}
	for i := range 9 {
		c.Runs = append(c.Runs, api.Run{Number: i + 1})
		c.Groups = append(c.Groups, api.RunGroup{Label: strings.Repeat("long label ", 5), Runs: []int{i + 1}})
		long.Groups = append(long.Groups, strings.Repeat("0123456789", 8))
		command.Groups = append(command.Groups, "./harbour train --lr 0."+strings.Repeat("1", i)+" --epochs 3")
	}
	tables := factTables(c, []api.FactRow{long, command}, 78)
	require.Greater(t, len(tables), 2, "as many beside each other as there is room for")
	columns := 0
	for _, l := range tables {
		columns += len(l.Columns) - 1
		for _, line := range strings.Split(l.Render(), "\n") {
			require.LessOrEqual(t, utf8.RuneCountInString(line), 78, line)
		}
	}
	require.Equal(t, 9, columns)
	require.Equal(t, "0.11", argumentsApart(command.Groups[2], command.Groups), "only what not all have")
	require.Equal(t, "ab…789", shorten("ab0123456789", 6))
	require.Equal(t, "a b", shorten("a\nb", 6))
	require.Equal(t, []string{"…0.1,…", "lr 0.2", "…0.2,…"}, shortenApart([]string{"lr 0.1, w 11", "lr 0.2", "lr 0.2, w 11"}, 6))
	require.Equal(t, []string{"1 x…8", "2 x…8", "2 x…8"}, shortenApart([]string{"xy45678", "xz45678", "xz45678"}, 5))
}

func TestCommitsOfAreNoOptions(t *testing.T) {
	c := &api.Comparison{Differ: []api.FactRow{{Section: "code", Name: "commit",
		Groups: []string{"0123abc, 0123abd", "--output=/x", "0123abc", "·"}}}}
	require.Equal(t, []string{"0123abc", "0123abd"}, commitsOf(c))
}

func rawValues(texts ...string) (out []json.RawMessage) {
	for _, t := range texts {
		out = append(out, json.RawMessage(t))
	}
	return out
}

func TestRunTableWritesValues(t *testing.T) {
	runs := []api.Run{{Address: "vessels/1", Values: rawValues(`0.123456`, `"2026-11-23T10:00:00Z"`,
		`"0123456789abcdef"`, `[3, 2]`, `null`)}, {Address: "vessels/2"}}
	l := term.RunTable(runs, `best,started,commit,hyper.layers,at("a,b")`)
	require.Equal(t, []string{"run", "title", "best", "started", "commit", "hyper.layers", `at("a,b")`}, l.Columns)
	require.Equal(t, "0.1235", l.Rows[0][2])
	require.NotContains(t, l.Rows[0][3], "T")
	require.Equal(t, "0123456789ab", l.Rows[0][4])
	require.Equal(t, "[3,2]", l.Rows[0][5])
	require.Equal(t, []string{"vessels/2", "", "", "", "", "", ""}, l.Rows[1])
	require.True(t, l.Numeric[2] && !l.Numeric[3])
}

// Many packages that differ are a number unless one asks for them.
func TestPackagesAreFolded(t *testing.T) {
	rows := []api.FactRow{{Section: "hyperparameter", Name: "lr"}}
	for i := range fewPackages {
		rows = append(rows, api.FactRow{Section: "package", Name: string(rune('a' + i))})
	}
	out, packages := folded(rows, false)
	require.Equal(t, rows, out)
	require.Zero(t, packages)
	rows = append(rows, api.FactRow{Section: "package", Name: "z"})
	out, packages = folded(rows, false)
	require.Equal(t, rows[:1], out)
	require.Equal(t, fewPackages+1, packages)
	out, packages = folded(rows, true)
	require.Equal(t, rows, out)
	require.Zero(t, packages)
}
