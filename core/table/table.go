package table

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
)

// Limits of what is read, so that a wrong file is refused early.
const (
	MaxColumns = 5100
	maxLine    = 16 << 20
)

// LookRows is how many rows are read before the first is given out: columns are known by then.
const LookRows = 200

// ReadError says where a file cannot be read.
type ReadError struct {
	Line, Column int // from 1; column 0: the whole line. Of Parquet, the row
	What         string
}

func (e *ReadError) Error() string {
	if e.Column == 0 {
		return fmt.Sprintf("line %d: %s", e.Line, e.What)
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.What)
}

// Row is a row of a table, with where it stands in the file.
type Row struct {
	Cells []string // by Head; fewer where a line of CSV has fewer
	Line  int      // from 1
	at    func(i int) int
}

// Where is the column of a cell in its line, from 1; 0 where that is not known.
func (r Row) Where(i int) int {
	if r.at == nil || i >= len(r.Cells) {
		return 0
	}
	return r.at(i)
}

// Options say how a table is read.
type Options struct {
	Lists bool // cells may be lists: they become JSON, ["tug","ferry"]; otherwise a list is refused
}

// Table is a table being read.
type Table struct {
	Head    []string // names of the columns
	Divider rune     // between the cells of a CSV
	Look    []Row    // the first rows, at most LookRows; Next gives them out as well

	next func() (Row, error)
	at   int // how many of Look were given out
}

// FormatOf is a file's format by the ending of its name; "": none that is read.
func FormatOf(path string) string {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".csv", ".tsv":
		return "csv"
	case ".jsonl", ".ndjson", ".json":
		return "jsonl"
	case ".parquet":
		return "parquet"
	}
	return ""
}

// Open reads the beginning of a table: csv, jsonl (an object a line, or an array of such lines), or parquet; "" is csv
// or jsonl, by how it begins. Parquet needs a *os.File or anything else that can be read at any place and tells its
// size.
func Open(format string, from io.Reader, o Options) (*Table, error) {
	t := &Table{}
	var err error
	switch format {
	case "", "csv", "jsonl":
		text := unmarked(from)
		if first, _ := text.Peek(1 << 10); format == "" {
			first = bytes.TrimSpace(first)
			format = "csv"
			if len(first) > 0 && (first[0] == '{' || first[0] == '[') {
				format = "jsonl"
			}
		}
		if format == "csv" {
			err = t.openCSV(text)
		} else {
			err = t.openLines(text, o)
		}
	case "parquet":
		err = t.openParquet(from, o)
	default:
		err = fmt.Errorf("format %q cannot be read; csv, jsonl and parquet can", format)
	}
	return t, err
}

// Next is the next row; io.EOF behind the last.
func (t *Table) Next() (Row, error) {
	if t.at < len(t.Look) {
		t.at++
		return t.Look[t.at-1], nil
	}
	t.Look = nil
	t.at = 0
	return t.next()
}

// look reads the first rows.
func (t *Table) look() error {
	for len(t.Look) < LookRows {
		row, err := t.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		t.Look = append(t.Look, row)
	}
	if len(t.Look) == 0 {
		return &ReadError{Line: 1, What: "there is no row in it"}
	}
	return nil
}
