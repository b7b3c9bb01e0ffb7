package history

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/big"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"

	"kembrel/core/plain"
)

// Cell is a named value of a row: text, a number (float64 with NaN and infinities, int64, or json.Number with all its
// digits), a boolean, a time, or a list. nil is no value.
type Cell struct {
	Name  string
	Value any
}

// Row is a row of a table whose rows need not have the same cells.
type Row []Cell

// Table writes rows, in memory until Close, because the columns and their types are known only then, or as they come
// (Fixed). A column has the type of its values: whole numbers, numbers, booleans, times; where they differ, or a whole
// number has more digits than the number it would be put beside can hold, it is text. In CSV and JSON Lines every value
// stands as it is.
type Table struct {
	format  string
	to      io.Writer
	rows    [][]any // by column; a row may be shorter than there are columns
	columns []string
	kinds   []kind // of the columns
	places  map[string]int
	csv     *csv.Writer // of a table whose columns are fixed, whose rows are written as they come
	json    *json.Encoder
	array   *array // that the objects are in; nil: in none
	err     error
}

// kind is the type of a column's values so far.
type kind int

const (
	none   kind = iota // no value yet
	whole              // int64
	small              // whole numbers that a double holds exactly, and doubles beside them
	double             // float64
	flag               // bool
	moment             // time.Time
	text
)

// exactBelow is up to where a double holds every whole number.
const exactBelow = 1 << 53

// NewTable makes one; csv-long is csv here.
func NewTable(format string, to io.Writer) *Table {
	t := &Table{format: format, to: to, places: map[string]int{}}
	if format == "json" { // JSON Lines, in an array
		t.array = &array{to: to}
		t.format, t.to = "jsonl", t.array
	}
	return t
}

// Declare names columns before there are rows, so that they stand in this order, also where no row has them.
func (t *Table) Declare(names ...string) {
	for _, name := range names {
		t.place(name)
	}
}

// Fixed says that no columns come but those declared: rows of CSV and JSON Lines are written as they come from here on,
// in bounded memory.
func (t *Table) Fixed() {
	switch t.format {
	case "csv":
		t.head()
	case "jsonl":
		t.json = json.NewEncoder(t.to)
	}
}

// place is which column a name is, a new one where there is none.
func (t *Table) place(name string) int {
	i, known := t.places[name]
	if !known {
		i = len(t.columns)
		t.columns, t.kinds, t.places[name] = append(t.columns, name), append(t.kinds, none), i
	}
	return i
}

// Add adds a row.
func (t *Table) Add(r Row) {
	row := make([]any, len(t.columns), len(t.columns)+len(r))
	for _, c := range r {
		i := t.place(c.Name)
		if i >= len(row) {
			row = append(row, make([]any, i+1-len(row))...)
		}
		if n, ok := c.Value.(json.Number); ok {
			c.Value = number(n)
		}
		if c.Value != nil {
			row[i], t.kinds[i] = c.Value, join(t.kinds[i], kindOf(c.Value))
		}
	}
	switch {
	case t.err != nil:
	case t.csv != nil:
		t.err = t.csv.Write(t.cells(row))
	case t.json != nil:
		t.err = t.json.Encode(t.object(row))
	default:
		t.rows = append(t.rows, row)
	}
}

// number is a number as JSON has it, with all its digits: int64 or float64 where they hold it, else as it was written.
func number(n json.Number) any {
	if i, err := n.Int64(); err == nil {
		return i
	}
	f, err := n.Float64()
	if err == nil && -exactBelow < f && f < exactBelow {
		return f
	}
	if err != nil { // more than a double holds
		return n
	}
	if exact, ok := new(big.Rat).SetString(n.String()); !ok || exact.IsInt() &&
		exact.Cmp(new(big.Rat).SetFloat64(f)) != 0 {
		return n
	}
	return f
}

func kindOf(v any) kind {
	switch v := v.(type) {
	case int64:
		if -exactBelow <= v && v <= exactBelow {
			return small
		}
		return whole
	case float64:
		return double
	case bool:
		return flag
	case time.Time:
		return moment
	}
	return text
}

func join(a, b kind) kind {
	switch {
	case a == none || a == b:
		return b
	case b == none:
		return a
	case (a == small || a == whole) && (b == small || b == whole):
		return whole
	case (a == small || a == double) && (b == small || b == double):
		return double
	}
	return text
}

func cellText(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return Number(v)
	case time.Time:
		return v.UTC().Format(time.RFC3339Nano)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

// Close writes the table, or what is left of it.
func (t *Table) Close() error {
	switch t.format {
	case "jsonl":
		if t.json == nil {
			t.json = json.NewEncoder(t.to)
		}
		for _, row := range t.rows {
			t.err = cmp.Or(t.err, t.json.Encode(t.object(row)))
		}
		if t.array != nil {
			t.err = cmp.Or(t.err, t.array.Close())
		}
		return t.err
	case "parquet":
		return t.parquet()
	}
	if t.csv == nil {
		t.head()
	}
	for _, row := range t.rows {
		t.err = cmp.Or(t.err, t.csv.Write(t.cells(row)))
	}
	t.csv.Flush()
	return cmp.Or(t.err, t.csv.Error())
}

// head writes a CSV's first line.
func (t *Table) head() {
	t.csv = csv.NewWriter(t.to)
	head := make([]string, len(t.columns))
	for i, c := range t.columns {
		head[i] = plain.Cell(c)
	}
	t.err = t.csv.Write(head)
}

func (t *Table) cells(row []any) []string {
	cells := make([]string, len(t.columns))
	for i, v := range row {
		cells[i] = cellText(v)
		if _, isText := v.(string); isText {
			cells[i] = plain.Cell(cells[i])
		}
	}
	return cells
}

func (t *Table) object(row []any) map[string]any {
	object := make(map[string]any, len(row))
	for i, v := range row {
		if f, ok := v.(float64); ok && (f != f || f-f != 0) {
			v = Number(f) // NaN or infinite
		}
		if v != nil {
			object[t.columns[i]] = v
		}
	}
	return object
}

var nodes = map[kind]func() parquet.Node{
	none: parquet.String, text: parquet.String,
	whole: func() parquet.Node { return parquet.Int(64) }, small: func() parquet.Node { return parquet.Int(64) },
	double: func() parquet.Node { return parquet.Leaf(parquet.DoubleType) },
	flag:   func() parquet.Node { return parquet.Leaf(parquet.BooleanType) },
	moment: func() parquet.Node { return parquet.Timestamp(parquet.Microsecond) },
}

func (t *Table) parquet() error {
	group := parquet.Group{}
	for i, c := range t.columns {
		group[c] = parquet.Compressed(parquet.Optional(nodes[t.kinds[i]]()), &parquet.Zstd)
	}
	names := append([]string(nil), t.columns...) // a group's columns lie by name
	sort.Strings(names)
	w := parquet.NewWriter(t.to, parquet.NewSchema("runs", group))
	for _, row := range t.rows {
		out := make(parquet.Row, len(names))
		for i, c := range names {
			from := t.places[c]
			if from >= len(row) || row[from] == nil {
				out[i] = parquet.NullValue().Level(0, 0, i)
				continue
			}
			out[i] = value(t.kinds[from], row[from]).Level(0, 1, i)
		}
		if _, err := w.WriteRows([]parquet.Row{out}); err != nil {
			return err
		}
	}
	return w.Close()
}

// value is a value in its column's type.
func value(of kind, v any) parquet.Value {
	switch of {
	case whole, small:
		return parquet.Int64Value(v.(int64))
	case double:
		if n, ok := v.(int64); ok {
			return parquet.DoubleValue(float64(n))
		}
		return parquet.DoubleValue(v.(float64))
	case flag:
		return parquet.BooleanValue(v.(bool))
	case moment:
		return parquet.Int64Value(v.(time.Time).UnixMicro())
	}
	return parquet.ByteArrayValue([]byte(strings.ToValidUTF8(cellText(v), "\uFFFD")))
}

// Moment is a time that was written as text, or the text where it is none; nil for an empty one.
func Moment(text string) any {
	if text == "" {
		return nil
	}
	if at, err := time.Parse(time.RFC3339Nano, text); err == nil && math.Abs(float64(at.Year())) < 10000 {
		return at
	}
	return text
}
