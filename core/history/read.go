package history

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"kembrel/core/curve"
	"kembrel/core/table"
)

// Imported is one run that was read: its readings in the order of steps.
type Imported struct {
	Run   string // "" where the file has no column of runs
	Names []string
	Batch curve.Batch
	Hyper map[string]json.RawMessage // of what never changes
}

type cell struct {
	curve.Point
	name  string
	value float64
}

// Read reads all of the file. Runs come in the order in which they begin in it.
func (f *File) Read() ([]Imported, error) {
	at := map[Role]int{}
	for r := range roles {
		i, err := f.one(r)
		if err != nil {
			return nil, err
		}
		at[r] = i
	}
	as := map[string]string{}
	for _, c := range f.Columns {
		if other, twice := as[string(c.Role)+c.As]; (c.Role == Values || c.Role == Hyper) && twice {
			return nil, fmt.Errorf("columns %q and %q are both taken for the %s %s; rename one with --map",
				other, c.Name, map[Role]string{Values: "curve", Hyper: "hyperparameter"}[c.Role], c.As)
		}
		as[string(c.Role)+c.As] = c.Name
	}
	if len(as) == 0 || at[Curve] < 0 && !slices.ContainsFunc(f.Columns,
		func(c Column) bool { return c.Role == Values }) {
		return nil, errors.New("no column of the file holds readings")
	}
	if (at[Curve] < 0) != (at[Value] < 0) {
		return nil, errors.New("a long table needs a column of curves and one of values")
	}
	cells, order, rows := map[string][]cell{}, []string{}, map[string]int64{}
	fixed := newFixed(f.Columns, f.own)
	take := func(from table.Row) error {
		row := from.Cells
		wrong := func(column int, format string, args ...any) error {
			return &ReadError{Line: from.Line, Column: from.Where(column),
				What: f.Columns[column].Name + ": " + fmt.Sprintf(format, args...)}
		}
		text := func(r Role) string {
			if i := at[r]; i >= 0 && i < len(row) && !isAbsent(row[i]) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		run := text(Run)
		if _, ok := cells[run]; !ok {
			order, cells[run] = append(order, run), nil
		}
		rows[run]++
		fixed.take(run, rows[run], row)
		p := curve.Point{Step: rows[run], Epoch: math.NaN(), Time: f.Default.UnixMilli()}
		if s := text(Step); s != "" {
			v, err := strconv.ParseFloat(s, 64)
			if err != nil || v != math.Trunc(v) || v < 0 || v > 1<<53 {
				return wrong(at[Step], "%.40q is not a step, a whole number from 0 up", s)
			}
			p.Step = int64(v)
		}
		if s := text(Epoch); s != "" {
			v, err := f.Columns[at[Epoch]].writes.number(s)
			if err != nil || v < 0 || math.IsInf(v, 0) {
				return wrong(at[Epoch], "%.40q is not an epoch, a number from 0 up", s)
			}
			p.Epoch = v
		}
		if s := text(Time); s != "" {
			v, err := parseTime(s)
			if err != nil {
				return wrong(at[Time], "%v", err)
			}
			p.Time = v
		}
		if at[Curve] >= 0 {
			name, s := text(Curve), text(Value)
			if err := curve.CheckName(name); err != nil {
				return wrong(at[Curve], "%v", err)
			}
			if s == "" {
				return nil
			}
			v, err := f.Columns[at[Value]].writes.number(s)
			if err != nil {
				return wrong(at[Value], "%.40q is not a number", s)
			}
			cells[run] = append(cells[run], cell{p, name, v})
			return nil
		}
		for i, c := range f.Columns {
			if c.Role != Values || i >= len(row) || isAbsent(row[i]) {
				continue
			}
			v, err := c.writes.number(row[i])
			if err != nil {
				return wrong(i, "%.40q is not a number", row[i])
			}
			cells[run] = append(cells[run], cell{p, c.As, v})
		}
		return nil
	}
	for {
		row, err := f.table.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if err := take(row); err != nil {
			return nil, err
		}
	}
	no, err := fixed.decide(f.Columns)
	if err != nil {
		return nil, err
	}
	var out []Imported
	for _, run := range order {
		read := slices.DeleteFunc(cells[run], func(c cell) bool { return no[c.name] })
		if len(read) > 0 {
			one := build(run, read)
			one.Hyper = fixed.of(run, f.Columns)
			out = append(out, one)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("there is no reading in it")
	}
	return out, nil
}

// build orders readings by step and brings those of one point together.
func build(run string, cells []cell) Imported {
	sort.SliceStable(cells, func(i, k int) bool {
		a, b := cells[i].Point, cells[k].Point
		return a.Step < b.Step || a.Step == b.Step && a.Time < b.Time
	})
	b := curve.Builder{}
	used := map[string]bool{}
	for i, c := range cells {
		fresh := i == 0
		if !fresh {
			o := cells[i-1].Point
			fresh = o.Step != c.Step || o.Time != c.Time ||
				math.Float64bits(o.Epoch) != math.Float64bits(c.Epoch) || used[c.name]
		}
		if fresh {
			b.Point(c.Point)
			clear(used)
		}
		used[c.name] = true
		b.Value(c.name, c.value)
	}
	return Imported{Run: run, Names: b.Names, Batch: b.Batch()}
}

// parseTime reads milliseconds or seconds since 1970 UTC, or a date and time as of RFC 3339, with a space for the T if
// need be; without a zone it is UTC.
func parseTime(text string) (int64, error) {
	if v, err := strconv.ParseFloat(text, 64); err == nil {
		switch {
		case math.IsNaN(v) || v < 0 || v > 1e14:
		case v > 1e11 || v == 0:
			return int64(math.Round(v)), nil
		case v > 1e8:
			return int64(math.Round(v * 1000)), nil
		default: // seconds since the start
			return int64(math.Round(v * 1000)), nil
		}
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999",
		"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999", "2006-01-02"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UnixMilli(), nil
		}
	}
	return 0, fmt.Errorf("%.40q is not a time; write 2026-03-01T12:00:00Z, or seconds or milliseconds since 1970", text)
}
