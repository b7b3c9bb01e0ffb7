package table

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
)

// unmarked is what is read without the mark that some write before UTF-8.
func unmarked(from io.Reader) *bufio.Reader {
	buffered := bufio.NewReaderSize(from, 1<<16)
	if mark, _ := buffered.Peek(3); bytes.Equal(mark, []byte("\xef\xbb\xbf")) {
		buffered.Discard(3)
	}
	return buffered
}

func (t *Table) openCSV(buffered *bufio.Reader) error {
	r := csv.NewReader(buffered)
	first, _ := buffered.Peek(4096)
	if line, _, _ := bytes.Cut(first, []byte("\n")); !bytes.Contains(line, []byte(",")) {
		for _, other := range []rune{';', '\t'} {
			if bytes.ContainsRune(line, other) {
				r.Comma = other
				break
			}
		}
	}
	t.Divider = r.Comma
	head, err := r.Read()
	if err != nil {
		return csvError(err)
	}
	if len(head) > MaxColumns {
		return &ReadError{Line: 1, What: fmt.Sprintf("%d columns are too many (at most %d)", len(head), MaxColumns)}
	}
	t.Head = head
	looking := true // the places of cells are kept for the rows looked at, and else only until the next row
	t.next = func() (Row, error) {
		cells, err := r.Read()
		if err != nil {
			return Row{}, csvError(err)
		}
		line, _ := r.FieldPos(0)
		row := Row{Cells: cells, Line: line, at: func(i int) int { _, at := r.FieldPos(i); return at }}
		if looking {
			columns := make([]int, len(cells))
			for i := range cells {
				columns[i] = row.at(i)
			}
			row.at = func(i int) int { return columns[i] }
		}
		return row, nil
	}
	err = t.look()
	looking = false
	return err
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

// objects reads a JSON object a line, or an array of objects that has one in each line or all in one.
type objects struct {
	lines  *bufio.Scanner
	line   int
	begun  bool
	inside bool              // an array
	more   []json.RawMessage // of this line
}

func readObjects(from io.Reader) *objects {
	lines := bufio.NewScanner(from)
	lines.Buffer(make([]byte, 1<<16), maxLine)
	return &objects{lines: lines}
}

// next is the next object, until it is called again; io.EOF behind the last.
func (o *objects) next() ([]byte, error) {
	for {
		if len(o.more) > 0 {
			first := o.more[0]
			o.more = o.more[1:]
			return first, nil
		}
		if !o.lines.Scan() {
			if err := o.lines.Err(); err != nil {
				return nil, &ReadError{Line: o.line + 1, What: err.Error()}
			}
			if o.inside {
				return nil, &ReadError{Line: o.line, What: "the array has no end: the file is cut off"}
			}
			return nil, io.EOF
		}
		o.line++
		text := bytes.TrimSpace(o.lines.Bytes())
		if len(text) == 0 {
			continue
		}
		first := !o.begun
		o.begun = true
		if first && text[0] == '[' {
			if json.Unmarshal(text, &o.more) == nil {
				continue
			}
			o.inside, text = true, text[1:]
		}
		if o.inside {
			text = bytes.TrimSpace(bytes.TrimSuffix(text, []byte(",")))
			if before, last := bytes.CutSuffix(text, []byte("]")); last {
				o.inside, text = false, bytes.TrimSpace(before)
			}
		}
		if len(text) > 0 {
			return text, nil
		}
	}
}

// openLines reads JSON Lines: an object a line, nested objects flattened with dots. Columns are the keys of the first
// rows.
func (t *Table) openLines(from io.Reader, o Options) error {
	list := readObjects(from)
	index := map[string]int{}
	known := true // whether new keys may still become columns
	t.next = func() (Row, error) {
		text, err := list.next()
		if err != nil {
			return Row{}, err
		}
		line := list.line
		flat, err := flatten(text, o)
		if err != nil {
			return Row{}, &ReadError{Line: line, What: err.Error()}
		}
		for _, kv := range flat {
			if _, ok := index[kv[0]]; ok {
				continue
			}
			if !known {
				return Row{}, &ReadError{Line: line,
					What: fmt.Sprintf("key %q is in none of the first %d rows", kv[0], LookRows)}
			}
			if len(t.Head) == MaxColumns {
				return Row{}, &ReadError{Line: line, What: fmt.Sprintf("more than %d different keys", MaxColumns)}
			}
			index[kv[0]] = len(t.Head)
			t.Head = append(t.Head, kv[0])
		}
		cells := make([]string, len(t.Head))
		for _, kv := range flat {
			cells[index[kv[0]]] = kv[1]
		}
		return Row{Cells: cells, Line: line}, nil
	}
	err := t.look()
	known = false
	return err
}

// flatten takes an object apart into keys and texts, in order; null is left out.
func flatten(text []byte, o Options) ([][2]string, error) {
	d, value, err := decode(text)
	if err != nil {
		if more := quoteNumbers(text); len(more) > len(text) { // as some write who know no null
			d, value, err = decode(more)
		}
	}
	if err != nil {
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
				if !o.Lists {
					return fmt.Errorf("%q is a list; single values are wanted", prefix+k)
				}
				list, err := json.Marshal(v)
				if err != nil {
					return err
				}
				out = append(out, [2]string{prefix + k, string(list)})
			default:
				out = append(out, [2]string{prefix + k, fmt.Sprint(v)})
			}
		}
		return nil
	}
	return out, walk("", value, 0)
}

func decode(text []byte) (*json.Decoder, map[string]any, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var value map[string]any
	err := d.Decode(&value)
	return d, value, err
}

// quoteNumbers puts quotes around NaN, Infinity and -Infinity, which JSON does not know and many write.
func quoteNumbers(text []byte) []byte {
	out := make([]byte, 0, len(text)+16)
	quoted := false
next:
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\' && i+1 < len(text):
			out = append(out, c, text[i+1])
			i++
			continue
		case c == '"':
			quoted = !quoted
		case !quoted:
			for _, word := range []string{"NaN", "-Infinity", "Infinity"} {
				if bytes.HasPrefix(text[i:], []byte(word)) {
					out = append(append(append(out, '"'), word...), '"')
					i += len(word) - 1
					continue next
				}
			}
		}
		out = append(out, text[i])
	}
	return out
}
