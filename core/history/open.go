package history

import (
	"fmt"
	"io"
	"time"

	"kembrel/core/table"
)

// ReadError says where a file cannot be read.
type ReadError = table.ReadError

// File is a table being read, CSV or JSON Lines.
type File struct {
	Columns []Column
	Default time.Time // for files without times

	table *table.Table
	own   bool // its curves are named as ours
}

// Open reads the beginning of a file and guesses what its columns are. format is csv or jsonl; "": as it begins.
func Open(format string, from io.Reader) (*File, error) {
	if format == "csv-long" {
		format = "csv"
	}
	if format != "" && format != "csv" && format != "jsonl" {
		return nil, fmt.Errorf("format %q cannot be read; csv and jsonl can", format)
	}
	t, err := table.Open(format, from, table.Options{})
	if err != nil {
		return nil, err
	}
	f := &File{table: t}
	f.guess()
	return f, nil
}
