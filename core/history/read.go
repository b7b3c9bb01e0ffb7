package history

import (
	"bufio"
	"bytes"
	"encoding/csv"
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
)

// Limits of what is read, so that a wrong file is refused early.
const (
	MaxColumns = 5100
	maxLine    = 16 << 20
)

// Role is what a column holds.
type Role string

// The roles. A column of role Values holds the readings of one curve; Curve and Value together make a long table.
const (
	Run    Role = "run"
	Curve  Role = "curve"
	Step   Role = "step"
	Epoch  Role = "epoch"
	Time   Role = "time"
	Value  Role = "value"
	Values Role = "values"
	Skip   Role = "left out"
)

// Column says what a column of a file is taken for.
type Column struct {
	Name string // as in the file
	Role Role
	As   string // the curve, for Values
	Why  string // for Skip
}

// ReadError says where a file cannot be read.
type ReadError struct {
	Line, Column int // from 1; column 0: the whole line
	What         string
}

func (e *ReadError) Error() string {
	if e.Column == 0 {
		return fmt.Sprintf("line %d: %s", e.Line, e.What)
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.What)
}

// Imported is one run that was read: its readings in the order of steps.
type Imported struct {
	Run   string // "" where the file has no column of runs
	Names []string
	Batch curve.Batch
}

// File is a table being read, CSV or JSON Lines.
type File struct {
	Columns []Column
	Default time.Time // for files without times

	next func() (cells []string, line int, at func(column int) int, err error)
	head []string
	seen [][]string // rows looked at for guessing, to be read first
	from []int      // their lines
	pos  []func(int) int
}

// guessRows is how many rows are looked at before columns are guessed.
const guessRows = 200

// Open reads the beginning of a file and guesses what its columns are. format is csv or jsonl.
func Open(format string, from io.Reader) (*File, error) {
	f := &File{}
	var err error
	switch format {
	case "csv", "csv-long":
		err = f.openCSV(from)
	case "jsonl":
		err = f.openLines(from)
	default:
		return nil, fmt.Errorf("format %q cannot be read; csv and jsonl can", format)
	}
	if err != nil {
		return nil, err
	}
	f.guess()
	return f, nil
}

func (f *File) openCSV(from io.Reader) error {
	buffered := bufio.NewReaderSize(from, 1<<16)
	if mark, _ := buffered.Peek(3); bytes.Equal(mark, []byte("\xef\xbb\xbf")) {
		buffered.Discard(3)
	}
	r := csv.NewReader(buffered)
	if first, _ := buffered.Peek(4096); !bytes.Contains(firstLine(first), []byte(",")) {
		for _, other := range []rune{';', '\t'} {
			if bytes.ContainsRune(firstLine(first), other) {
				r.Comma = other
				break
			}
		}
	}
	head, err := r.Read()
	if err != nil {
		return csvError(err)
	}
	if len(head) > MaxColumns {
		return &ReadError{Line: 1, What: fmt.Sprintf("%d columns are too many (at most %d)", len(head), MaxColumns)}
	}
	f.head = head
	f.next = func() ([]string, int, func(int) int, error) {
		cells, err := r.Read()
		if err != nil {
			return nil, 0, nil, csvError(err)
		}
		line, _ := r.FieldPos(0)
		columns := make([]int, len(cells))
		for i := range cells {
			_, columns[i] = r.FieldPos(i)
		}
		return cells, line, func(i int) int { return columns[i] }, nil
	}
	return f.look()
}

func firstLine(b []byte) []byte {
	line, _, _ := bytes.Cut(b, []byte("\n"))
	return line
}

func csvError(err error) error {
	var e *csv.ParseError
	switch {
	case errors.As(err, &e):
		return &ReadError{Line: e.Line, Column: e.Column, What: e.Err.Error()}
	case errors.Is(err, io.EOF):
		return io.EOF
	}
	return err
}

// look reads the first rows.
func (f *File) look() error {
	for len(f.seen) < guessRows {
		cells, line, at, err := f.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		f.seen, f.from, f.pos = append(f.seen, cells), append(f.from, line), append(f.pos, at)
	}
	if len(f.seen) == 0 {
		return &ReadError{Line: 1, What: "there is no row in it"}
	}
	return nil
}

// openLines reads JSON Lines: an object a line, nested objects flattened with dots. Columns are the keys of the first rows.
func (f *File) openLines(from io.Reader) error {
	scanner := bufio.NewScanner(from)
	scanner.Buffer(make([]byte, 1<<16), maxLine)
	line := 0
	index := map[string]int{}
	known := true // whether new keys may still become columns
	f.next = func() ([]string, int, func(int) int, error) {
		for scanner.Scan() {
			line++
			if len(bytes.TrimSpace(scanner.Bytes())) == 0 {
				continue
			}
			flat, err := flatten(scanner.Bytes())
			if err != nil {
				return nil, 0, nil, &ReadError{Line: line, What: err.Error()}
			}
			for _, kv := range flat {
				if _, ok := index[kv[0]]; ok {
					continue
				}
				if !known {
					return nil, 0, nil, &ReadError{Line: line, What: fmt.Sprintf("key %q is in none of the first %d rows", kv[0], guessRows)}
				}
				if len(f.head) == MaxColumns {
					return nil, 0, nil, &ReadError{Line: line, What: fmt.Sprintf("more than %d different keys", MaxColumns)}
				}
				index[kv[0]] = len(f.head)
				f.head = append(f.head, kv[0])
			}
			cells := make([]string, len(f.head))
			for _, kv := range flat {
				cells[index[kv[0]]] = kv[1]
			}
			return cells, line, func(int) int { return 0 }, nil
		}
		if err := scanner.Err(); err != nil {
			return nil, 0, nil, &ReadError{Line: line + 1, What: err.Error()}
		}
		return nil, 0, nil, io.EOF
	}
	err := f.look()
	known = false
	return err
}

// flatten takes an object apart into keys and texts, in order; null is left out.
func flatten(text []byte) ([][2]string, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var value map[string]any
	if err := d.Decode(&value); err != nil {
		return nil, fmt.Errorf("not a JSON object: %w", err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something stands behind the object")
	}
	var out [][2]string
	var walk func(prefix string, m map[string]any, depth int) error
	walk = func(prefix string, m map[string]any, depth int) error {
		if depth > 8 {
			return errors.New("objects are nested too deep")
		}
		keys := make([]string, 0, len(m))
		for k := range m {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for _, k := range keys {
			switch v := m[k].(type) {
			case nil:
			case map[string]any:
				if err := walk(prefix+k+".", v, depth+1); err != nil {
					return err
				}
			case []any:
				return fmt.Errorf("%q is a list; readings are single numbers", prefix+k)
			default:
				out = append(out, [2]string{prefix + k, fmt.Sprint(v)})
			}
		}
		return nil
	}
	return out, walk("", value, 0)
}

var roles = map[Role][]string{
	Run:   {"run", "run id", "run name", "experiment"},
	Curve: {"curve", "measure", "metric", "name"},
	Step:  {"step", "steps", "iteration", "iterations", "iter", "batch", "update"},
	Epoch: {"epoch", "epochs"},
	Time:  {"time", "timestamp", "date", "datetime", "at"},
	Value: {"value"},
}

func (f *File) guess() {
	taken := map[Role]bool{}
	plain := make([]string, len(f.head))
	for i, h := range f.head {
		plain[i] = strings.ToLower(strings.TrimSpace(strings.NewReplacer("_", " ", "-", " ").Replace(h)))
	}
	role := func(name string) Role {
		for r, names := range roles {
			if slices.Contains(names, name) {
				return r
			}
		}
		return Values
	}
	// A file that names splits as Kembrel does is taken at its word.
	own := slices.ContainsFunc(f.head, func(h string) bool { _, split := curve.SplitName(h); return split != "" })
	validated := slices.ContainsFunc(f.head, func(h string) bool { _, split := curve.SplitName(CurveName(h, false)); return split == "val" })
	isLong := slices.ContainsFunc(plain, func(n string) bool { return role(n) == Curve }) && slices.ContainsFunc(plain, func(n string) bool { return role(n) == Value })
	for i, h := range f.head {
		c := Column{Name: h, Role: role(plain[i])}
		if (c.Role == Curve || c.Role == Value) && !isLong || taken[c.Role] && c.Role != Values {
			c.Role = Values
		}
		if c.Role == Values && isLong {
			c.Role, c.Why = Skip, "a long table has its readings in one column"
		}
		if c.Role == Values {
			if c.As = h; !own {
				c.As = CurveName(h, validated)
			}
			if bad, text := f.notNumbers(i); bad {
				c.Role, c.As, c.Why = Skip, "", fmt.Sprintf("it holds text, such as %.30q", text)
			} else if curve.CheckName(c.As) != nil {
				c.Role, c.As, c.Why = Skip, "", "no curve can have this name"
			}
		}
		taken[c.Role] = true
		f.Columns = append(f.Columns, c)
	}
}

func (f *File) notNumbers(column int) (bool, string) {
	for _, cells := range f.seen {
		if column >= len(cells) || strings.TrimSpace(cells[column]) == "" {
			continue
		}
		if _, err := parseNumber(cells[column]); err != nil {
			return true, cells[column]
		}
	}
	return false, ""
}

// CurveName is the curve that a column's name most likely means: measure first, then the split. Where a file also has validation
// curves, a name without a split means training.
//
//	CurveName("val_loss", true)   // "loss.val"
//	CurveName("loss", true)       // "loss.train"
//	CurveName("train/acc", false) // "acc.train"
func CurveName(column string, validated bool) string {
	words := strings.FieldsFunc(column, func(r rune) bool { return strings.ContainsRune("/_ .-:|\\", r) })
	splits := map[string]string{"train": "train", "training": "train", "val": "val", "valid": "val", "validation": "val", "test": "test", "testing": "test"}
	split, rest := "", words[:0:0]
	for i, w := range words {
		if s, ok := splits[strings.ToLower(w)]; ok && split == "" && (i == 0 || i == len(words)-1) {
			split = s
		} else {
			rest = append(rest, w)
		}
	}
	if len(rest) == 0 || split == "" && !validated {
		return strings.Trim(strings.ReplaceAll(column, "/", "."), ". ")
	}
	measure := strings.Join(rest, "_")
	if split == "" {
		if !slices.Contains([]string{"loss", "accuracy", "acc", "error"}, strings.ToLower(measure)) {
			return strings.Trim(strings.ReplaceAll(column, "/", "."), ". ")
		}
		split = "train"
	}
	return measure + "." + split
}

func parseNumber(text string) (float64, error) {
	text = strings.TrimSpace(text)
	switch strings.ToLower(text) {
	case "nan":
		return math.NaN(), nil
	case "inf", "infinity", "+inf":
		return math.Inf(1), nil
	case "-inf", "-infinity":
		return math.Inf(-1), nil
	}
	return strconv.ParseFloat(text, 64)
}

// Set overrules the guess for a column: as is a curve's name, a role, or "" to leave it out.
func (f *File) Set(column, as string) error {
	i := slices.IndexFunc(f.Columns, func(c Column) bool { return c.Name == column })
	if i < 0 {
		return fmt.Errorf("the file has no column %q; it has: %s", column, strings.Join(f.head, ", "))
	}
	c := &f.Columns[i]
	switch r := Role(as); {
	case as == "":
		*c = Column{Name: column, Role: Skip, Why: "as you said"}
	case roles[r] != nil:
		*c = Column{Name: column, Role: r}
	default:
		if err := curve.CheckName(as); err != nil {
			return err
		}
		*c = Column{Name: column, Role: Values, As: as}
	}
	return nil
}

// one returns the column of a role, or -1.
func (f *File) one(r Role) (int, error) {
	at := -1
	for i, c := range f.Columns {
		if c.Role != r {
			continue
		}
		if at >= 0 {
			return 0, fmt.Errorf("columns %q and %q are both taken for the %s; say which with --map", f.Columns[at].Name, c.Name, r)
		}
		at = i
	}
	return at, nil
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
		if other, twice := as[c.As]; c.Role == Values && twice {
			return nil, fmt.Errorf("columns %q and %q are both taken for the curve %s; rename one with --map", other, c.Name, c.As)
		}
		as[c.As] = c.Name
	}
	if len(as) == 0 || at[Curve] < 0 && !slices.ContainsFunc(f.Columns, func(c Column) bool { return c.Role == Values }) {
		return nil, errors.New("no column of the file holds readings")
	}
	if (at[Curve] < 0) != (at[Value] < 0) {
		return nil, errors.New("a long table needs a column of curves and one of values")
	}
	cells, order, rows := map[string][]cell{}, []string{}, map[string]int64{}
	take := func(row []string, line int, position func(int) int) error {
		wrong := func(column int, format string, args ...any) error {
			where := 0
			if column < len(row) {
				where = position(column)
			}
			return &ReadError{Line: line, Column: where, What: f.Columns[column].Name + ": " + fmt.Sprintf(format, args...)}
		}
		text := func(r Role) string {
			if i := at[r]; i >= 0 && i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		run := text(Run)
		if _, ok := cells[run]; !ok {
			order, cells[run] = append(order, run), nil
		}
		rows[run]++
		p := curve.Point{Step: rows[run], Epoch: math.NaN(), Time: f.Default.UnixMilli()}
		if s := text(Step); s != "" {
			v, err := strconv.ParseFloat(s, 64)
			if err != nil || v != math.Trunc(v) || v < 0 || v > 1<<53 {
				return wrong(at[Step], "%.40q is not a step, a whole number from 0 up", s)
			}
			p.Step = int64(v)
		}
		if s := text(Epoch); s != "" {
			v, err := parseNumber(s)
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
			v, err := parseNumber(s)
			if err != nil {
				return wrong(at[Value], "%.40q is not a number", s)
			}
			cells[run] = append(cells[run], cell{p, name, v})
			return nil
		}
		for i, c := range f.Columns {
			if c.Role != Values || i >= len(row) || strings.TrimSpace(row[i]) == "" {
				continue
			}
			v, err := parseNumber(row[i])
			if err != nil {
				return wrong(i, "%.40q is not a number", row[i])
			}
			cells[run] = append(cells[run], cell{p, c.As, v})
		}
		return nil
	}
	for i, row := range f.seen {
		if err := take(row, f.from[i], f.pos[i]); err != nil {
			return nil, err
		}
	}
	for {
		row, line, position, err := f.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if err := take(row, line, position); err != nil {
			return nil, err
		}
	}
	var out []Imported
	for _, run := range order {
		if len(cells[run]) > 0 {
			out = append(out, build(run, cells[run]))
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
			fresh = o.Step != c.Step || o.Time != c.Time || math.Float64bits(o.Epoch) != math.Float64bits(c.Epoch) || used[c.name]
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

// parseTime reads milliseconds or seconds since 1970 UTC, or a date and time as of RFC 3339, with a space for the T if need be; without a
// zone it is UTC.
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
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999", "2006-01-02"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UnixMilli(), nil
		}
	}
	return 0, fmt.Errorf("%.40q is not a time; write 2026-03-01T12:00:00Z, or seconds or milliseconds since 1970", text)
}
