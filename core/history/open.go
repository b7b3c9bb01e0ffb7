package history

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"time"
)

// Limits of what is read, so that a wrong file is refused early.
const (
	MaxColumns = 5100
	maxLine    = 16 << 20
)

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

// openLines reads JSON Lines: an object a line, nested objects flattened with dots. Columns are the keys of the first
// rows.
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
					return nil, 0, nil,
						&ReadError{Line: line, What: fmt.Sprintf("key %q is in none of the first %d rows",
							kv[0], guessRows)}
				}
				if len(f.head) == MaxColumns {
					return nil, 0, nil,
						&ReadError{Line: line, What: fmt.Sprintf("more than %d different keys", MaxColumns)}
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
