package history

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go"
)

// Cell is a named value of a row: text, a number (NaN and infinities allowed), a truth value or a list.
type Cell struct {
	Name  string
	Value any
}

// Row is a row of a table whose rows need not have the same cells.
type Row []Cell

// Table writes rows, in memory until Close, because the columns are known only then. In Parquet numbers are doubles, and all
// else is text.
type Table struct {
	format  string
	to      io.Writer
	rows    []map[string]any
	columns []string
	numbers map[string]bool // columns of nothing but numbers
}

// NewTable makes one; csv-long is csv here.
func NewTable(format string, to io.Writer) *Table {
	return &Table{format: format, to: to, numbers: map[string]bool{}}
}

// Declare names columns before there are rows, so that they stand in this order, also where no row has them.
func (t *Table) Declare(names ...string) {
	for _, name := range names {
		if _, known := t.numbers[name]; !known {
			t.columns = append(t.columns, name)
			t.numbers[name] = true
		}
	}
}

// Add adds a row.
func (t *Table) Add(r Row) {
	row := map[string]any{}
	for _, c := range r {
		if n, whole := c.Value.(int64); whole {
			c.Value = float64(n)
		}
		_, number := c.Value.(float64)
		if _, known := t.numbers[c.Name]; !known {
			t.columns = append(t.columns, c.Name)
			t.numbers[c.Name] = true
		}
		t.numbers[c.Name] = t.numbers[c.Name] && number
		row[c.Name] = c.Value
	}
	t.rows = append(t.rows, row)
}

func cellText(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return Number(v)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

// Close writes the table.
func (t *Table) Close() error {
	switch t.format {
	case "jsonl":
		return t.lines()
	case "parquet":
		return t.parquet()
	}
	w := csv.NewWriter(t.to)
	if err := w.Write(t.columns); err != nil {
		return err
	}
	for _, row := range t.rows {
		cells := make([]string, len(t.columns))
		for i, c := range t.columns {
			cells[i] = cellText(row[c])
		}
		if err := w.Write(cells); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

func (t *Table) lines() error {
	e := json.NewEncoder(t.to)
	for _, row := range t.rows {
		for name, v := range row {
			if f, ok := v.(float64); ok && (f != f || f-f != 0) {
				row[name] = Number(f) // NaN or infinite
			}
		}
		if err := e.Encode(row); err != nil {
			return err
		}
	}
	return nil
}

func (t *Table) parquet() error {
	group := parquet.Group{}
	for _, c := range t.columns {
		node := parquet.String()
		if t.numbers[c] {
			node = parquet.Leaf(parquet.DoubleType)
		}
		group[c] = parquet.Compressed(parquet.Optional(node), &parquet.Zstd)
	}
	w := parquet.NewGenericWriter[map[string]any](t.to, parquet.NewSchema("runs", group))
	for _, row := range t.rows {
		out := map[string]any{}
		for _, c := range t.columns {
			switch v, there := row[c]; {
			case !there:
			case t.numbers[c]:
				out[c] = v
			default:
				out[c] = cellText(v)
			}
		}
		if _, err := w.Write([]map[string]any{out}); err != nil {
			return err
		}
	}
	return w.Close()
}
