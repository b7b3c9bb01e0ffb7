package table

import (
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func rowsOf(t *testing.T, format, text string) (*Table, [][]string) {
	table, err := Open(format, strings.NewReader(text), Options{})
	require.NoError(t, err, text)
	var rows [][]string
	for {
		row, err := table.Next()
		if errors.Is(err, io.EOF) {
			return table, rows
		}
		require.NoError(t, err, text)
		rows = append(rows, row.Cells)
	}
}

// Without a format a table is read as what it begins with.
func TestWhatATableBeginsWith(t *testing.T) {
	for _, text := range []string{
		"epoch,loss\n1,0.5\n2,0.25\n",
		"\ufeffepoch,loss\n1,0.5\n2,0.25\n",
		"epoch;loss\n1;0.5\n2;0.25\n",
		`{"epoch":1,"loss":0.5}` + "\n" + `{"epoch":2,"loss":0.25}`,
		"\ufeff\n  " + `{"epoch":1,"loss":0.5}` + "\n\n" + `{"epoch":2,"loss":0.25}` + "\n",
		"[\n" + `{"epoch":1,"loss":0.5},` + "\n" + `{"epoch":2,"loss":0.25}` + "\n]\n",
		`[{"epoch":1,"loss":0.5}, {"epoch":2,"loss":0.25}]`,
		"[ " + `{"epoch":1,"loss":0.5},` + "\r\n" + `  {"epoch":2,"loss":0.25}` + "\r\n  ]",
		`[{"epoch":1,"loss":0.5},` + "\n" + ` {"epoch":2,"loss":0.25}]`,
	} {
		table, rows := rowsOf(t, "", text)
		require.Equal(t, []string{"epoch", "loss"}, table.Head, text)
		require.Equal(t, [][]string{{"1", "0.5"}, {"2", "0.25"}}, rows, text)
	}
}

func TestWhatIsNoTable(t *testing.T) {
	for text, want := range map[string]string{
		`[1, 2]`:                          "line 1: not a JSON object",
		"[\n{\"epoch\":\n1}\n]":           "line 2: not a JSON object",
		"{\"epoch\":1}\n]":                "line 2: not a JSON object",
		"{\"epoch\":1}\n[{\"epoch\":1}":   "line 2: not a JSON object",
		"[{\"epoch\":1},\n{\"epoch\":2},": "line 2: the array has no end",
		`[]`:                              "there is no row in it",
		"[\n]":                            "there is no row in it",
		`{"epoch":1} {"epoch":2}`:         "something stands behind the object",
		`{"curves":{"loss":[1,2]}}`:       "is a list",
		"{\"epoch\":1}\n{\"epoch\" 2}\n":  "line 2: not a JSON object",
	} {
		_, err := Open("", strings.NewReader(text), Options{})
		require.ErrorContains(t, err, want, text)
	}
}

func TestFormatOf(t *testing.T) {
	for path, want := range map[string]string{"a.CSV": "csv", "a.tsv": "csv", "b/a.json": "jsonl", "a.ndjson": "jsonl",
		"a.parquet": "parquet", "a.xlsx": "", "csv": ""} {
		require.Equal(t, want, FormatOf(path), path)
	}
}
