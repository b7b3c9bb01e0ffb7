package table

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"
)

// sized is what a Parquet file must be: its end is read first.
type sized interface {
	io.ReaderAt
	io.Seeker
}

// maxFooter bounds what is read of a file before anything is known of it.
const maxFooter = 64 << 20

// openParquet reads a Parquet file: its leaf columns, named by their paths.
func (t *Table) openParquet(from io.Reader, o Options) (err error) {
	defer caught(&err)
	in, ok := from.(sized)
	if !ok {
		return errors.New("a Parquet file is read from its end; give a file, not a stream")
	}
	size, err := in.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if err := checkFooter(in, size); err != nil {
		return err
	}
	f, err := parquet.OpenFile(in, size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return fmt.Errorf("this is no Parquet file: %w", err)
	}
	paths := f.Schema().Columns()
	if len(paths) > MaxColumns {
		return fmt.Errorf("%d columns are too many (at most %d)", len(paths), MaxColumns)
	}
	leaves := make([]parquet.LeafColumn, len(paths))
	for i, path := range paths {
		name := strings.Join(path, ".")
		if leaf, ok := f.Schema().Lookup(path...); ok {
			leaves[i] = leaf
			if leaf.MaxRepetitionLevel > 0 { // the format's own names for the inside of a list say nothing
				name = strings.TrimSuffix(strings.TrimSuffix(name, ".list.element"), ".list.item")
			}
		}
		t.Head = append(t.Head, name)
	}
	rows := &groups{all: f.RowGroups()}
	line := 0
	buffer := make([]parquet.Row, 1)
	t.next = func() (row Row, err error) {
		defer caught(&err)
		n, err := rows.read(buffer)
		if n == 0 {
			if err == nil || errors.Is(err, io.EOF) {
				return Row{}, io.EOF
			}
			return Row{}, &ReadError{Line: line + 1, What: err.Error()}
		}
		line++
		cells := make([]string, len(t.Head))
		lists := map[int][]any{}
		for _, v := range buffer[0] {
			i := v.Column()
			if leaves[i].MaxRepetitionLevel > 0 {
				if !o.Lists {
					return Row{}, &ReadError{Line: line, What: fmt.Sprintf("%q is a list; single values are wanted", t.Head[i])}
				}
				if !v.IsNull() {
					lists[i] = append(lists[i], cell(v, leaves[i]))
				}
			} else if !v.IsNull() {
				cells[i] = cell(v, leaves[i])
			}
		}
		for i, list := range lists {
			text, err := json.Marshal(list)
			if err != nil {
				return Row{}, err
			}
			cells[i] = string(text)
		}
		return Row{Cells: cells, Line: line}, nil
	}
	return t.look()
}

// checkFooter refuses a file whose description is larger than the file, or than any sensible one.
func checkFooter(in io.ReaderAt, size int64) error {
	var end [8]byte
	if size < 12 {
		return errors.New("this is no Parquet file: it is too short")
	}
	if _, err := in.ReadAt(end[:], size-8); err != nil {
		return err
	}
	n := int64(end[0]) | int64(end[1])<<8 | int64(end[2])<<16 | int64(end[3])<<24
	if string(end[4:]) != "PAR1" || n > size-12 || n > maxFooter {
		return errors.New("this is no Parquet file: its end is not one's")
	}
	return nil
}

// caught turns a panic of the reader, which some damaged files bring about, into an error.
func caught(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("the Parquet file is damaged: %v", p)
	}
}

// groups reads the rows of one row group after another.
type groups struct {
	all  []parquet.RowGroup
	rows parquet.Rows
}

func (g *groups) read(buffer []parquet.Row) (int, error) {
	for {
		if g.rows == nil {
			if len(g.all) == 0 {
				return 0, io.EOF
			}
			g.rows, g.all = g.all[0].Rows(), g.all[1:]
		}
		n, err := g.rows.ReadRows(buffer)
		if n > 0 || err != nil && !errors.Is(err, io.EOF) {
			return n, err
		}
		g.rows.Close()
		g.rows = nil
	}
}

// cell writes a value as a text that reads back the same.
func cell(v parquet.Value, leaf parquet.LeafColumn) string {
	if l := leaf.Node.Type().LogicalType(); l != nil && v.Kind() == parquet.Int64 {
		if at, ok := l.Value.(*format.TimestampType); ok && at.Unit.Value != nil {
			unit := at.Unit.Value.Duration()
			perSecond := int64(time.Second / unit)
			n := v.Int64()
			return time.Unix(n/perSecond, n%perSecond*int64(unit)).UTC().Format(time.RFC3339Nano)
		}
	}
	if v.Kind() == parquet.ByteArray || v.Kind() == parquet.FixedLenByteArray {
		return strings.ToValidUTF8(string(v.ByteArray()), "\uFFFD")
	}
	return v.String()
}
