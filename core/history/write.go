package history

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"sort"
	"strconv"
	"strings"

	"github.com/parquet-go/parquet-go"

	"kembrel/core/curve"
	"kembrel/core/plain"
)

// Formats are the names of the formats.
var Formats = []string{"csv", "csv-long", "json", "jsonl", "parquet"}

// MediaType is the media type of a format.
func MediaType(format string) string {
	switch format {
	case "json":
		return "application/json"
	case "jsonl":
		return "application/jsonl"
	case "parquet":
		return "application/vnd.apache.parquet"
	}
	return "text/csv; charset=utf-8; header=present"
}

// Extension is what files of a format end in.
func Extension(format string) string {
	if format == "csv-long" {
		return "csv"
	}
	return format
}

// Writer takes the curves of runs, run by run and curve by curve, each in stretches in the order of steps.
type Writer interface {
	Write(run, name string, points []curve.Point, values []float64) error
	// Close writes what is held; the history is complete only after it.
	Close() error
}

// NewWriter writes in a format. names are the curves of all runs, which become the columns of a wide CSV; runs says
// whether there may be more than one run, which gives it a column. A wide CSV holds one run at a time in memory, the
// others a bounded stretch.
func NewWriter(format string, to io.Writer, names []string, runs bool) (Writer, error) {
	switch format {
	case "csv":
		w := &wide{csv: csv.NewWriter(to), names: names, runs: runs, column: map[string]int{}}
		for i, n := range names {
			w.column[n] = i
		}
		return w, w.head()
	case "csv-long":
		w := &long{csv: csv.NewWriter(to)}
		return w, w.csv.Write([]string{"run", "curve", "step", "epoch", "time", "value"})
	case "jsonl":
		return &lines{to: to}, nil
	case "json":
		whole := &array{to: to}
		return &lines{to: whole, end: whole}, nil
	case "parquet":
		return &columns{w: parquet.NewGenericWriter[parquetRow](to, parquet.Compression(&parquet.Zstd),
			parquet.MaxRowsPerRowGroup(1<<18))}, nil
	}
	return nil, fmt.Errorf("format %q is none of %s", format, strings.Join(Formats, ", "))
}

// Number writes a value as text.
func Number(v float64) string {
	switch {
	case math.IsNaN(v):
		return "NaN"
	case math.IsInf(v, 1):
		return "Infinity"
	case math.IsInf(v, -1):
		return "-Infinity"
	}
	return strconv.FormatFloat(v, 'g', -1, 64)
}

func epochText(e float64) string {
	if math.IsNaN(e) {
		return ""
	}
	return strconv.FormatFloat(e, 'f', -1, 64)
}

type wide struct {
	csv    *csv.Writer
	names  []string
	column map[string]int
	runs   bool
	run    string
	rows   map[place]int
	lines  []row
	counts map[place]int // of the curve being written, for points that it has twice
	name   string
}

// place is a row of a run: a point, and which of the readings there, should a curve have several.
type place struct {
	step, time int64
	epoch      uint64
	again      int
}

type row struct {
	place
	cells []string
}

func (w *wide) head() error {
	head := []string{"epoch", "step", "time"}
	if w.runs {
		head = append([]string{"run"}, head...)
	}
	for _, name := range w.names {
		head = append(head, plain.Cell(name))
	}
	return w.csv.Write(head)
}

func (w *wide) Write(run, name string, points []curve.Point, values []float64) error {
	if run != w.run || w.rows == nil {
		if err := w.flush(); err != nil {
			return err
		}
		w.run, w.rows, w.name = run, map[place]int{}, ""
	}
	if name != w.name {
		w.name, w.counts = name, map[place]int{}
	}
	column, ok := w.column[name]
	if !ok {
		return nil // began after the columns were known
	}
	for i, p := range points {
		at := place{step: p.Step, time: p.Time, epoch: math.Float64bits(p.Epoch)}
		again := w.counts[at]
		w.counts[at] = again + 1
		at.again = again
		k, ok := w.rows[at]
		if !ok {
			k = len(w.lines)
			w.rows[at] = k
			w.lines = append(w.lines, row{place: at, cells: make([]string, len(w.names))})
		}
		w.lines[k].cells[column] = Number(values[i])
	}
	return nil
}

func (w *wide) flush() error {
	sort.SliceStable(w.lines, func(i, k int) bool {
		a, b := w.lines[i], w.lines[k]
		if a.step != b.step {
			return a.step < b.step
		}
		return a.time < b.time
	})
	for _, r := range w.lines {
		cells := []string{epochText(math.Float64frombits(r.epoch)), strconv.FormatInt(r.step, 10),
			strconv.FormatInt(r.time, 10)}
		if w.runs {
			cells = append([]string{w.run}, cells...)
		}
		if err := w.csv.Write(append(cells, r.cells...)); err != nil {
			return err
		}
	}
	w.lines = nil
	return nil
}

func (w *wide) Close() error {
	if err := w.flush(); err != nil {
		return err
	}
	w.csv.Flush()
	return w.csv.Error()
}

type long struct{ csv *csv.Writer }

func (w *long) Write(run, name string, points []curve.Point, values []float64) error {
	for i, p := range points {
		cells := []string{run, plain.Cell(name), strconv.FormatInt(p.Step, 10), epochText(p.Epoch),
			strconv.FormatInt(p.Time, 10), Number(values[i])}
		if err := w.csv.Write(cells); err != nil {
			return err
		}
	}
	return nil
}

func (w *long) Close() error {
	w.csv.Flush()
	return w.csv.Error()
}

type lines struct {
	to  io.Writer
	end io.Closer // of the array that they are in; nil: they are in none
	buf []byte
}

func (w *lines) Write(run, name string, points []curve.Point, values []float64) error {
	runText, err := json.Marshal(run)
	if err != nil {
		return err
	}
	nameText, err := json.Marshal(name)
	if err != nil {
		return err
	}
	w.buf = w.buf[:0]
	for i, p := range points {
		w.buf = fmt.Appendf(w.buf, `{"run":%s,"curve":%s,"step":%d,"epoch":`, runText, nameText, p.Step)
		if math.IsNaN(p.Epoch) {
			w.buf = append(w.buf, "null"...)
		} else {
			w.buf = strconv.AppendFloat(w.buf, p.Epoch, 'f', -1, 64)
		}
		value := Number(values[i])
		if math.IsNaN(values[i]) || math.IsInf(values[i], 0) {
			value = `"` + value + `"`
		}
		w.buf = fmt.Appendf(w.buf, `,"time":%d,"value":%s}`+"\n", p.Time, value)
	}
	_, err = w.to.Write(w.buf)
	return err
}

func (w *lines) Close() error {
	if w.end == nil {
		return nil
	}
	return w.end.Close()
}

type parquetRow struct {
	Run   string   `parquet:"run,dict"`
	Curve string   `parquet:"curve,dict"`
	Step  int64    `parquet:"step,delta"`
	Epoch *float64 `parquet:"epoch,optional"`
	Time  int64    `parquet:"time,timestamp(millisecond)"`
	Value float64  `parquet:"value"`
}

type columns struct {
	w    *parquet.GenericWriter[parquetRow]
	rows []parquetRow
}

func (w *columns) Write(run, name string, points []curve.Point, values []float64) error {
	w.rows = w.rows[:0]
	for i, p := range points {
		r := parquetRow{Run: run, Curve: name, Step: p.Step, Time: p.Time, Value: values[i]}
		if !math.IsNaN(p.Epoch) {
			r.Epoch = &p.Epoch
		}
		w.rows = append(w.rows, r)
	}
	_, err := w.w.Write(w.rows)
	return err
}

func (w *columns) Close() error { return w.w.Close() }
