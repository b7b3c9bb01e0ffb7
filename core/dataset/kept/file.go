package kept

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"iter"
	"math"
	"slices"
	"sort"
	"sync"

	"github.com/parquet-go/parquet-go"

	"kembrel/core/dataset"
)

// GroupRows is how many items a row group holds.
const GroupRows = 8192

// File is a snapshot's file, open for reading. It may be read from many goroutines.
type File struct {
	Columns []dataset.OwnColumn
	file    *parquet.File
	layout  layout
	starts  []int64 // row at which each group begins, and their number behind the last

	mutex  sync.Mutex
	firsts map[int]string // keys of the first items of groups, as far as they were asked for
}

// Open opens a snapshot's file.
func Open(r io.ReaderAt, size int64, columns []dataset.OwnColumn) (_ *File, err error) {
	defer damaged(&err)
	f, err := parquet.OpenFile(r, size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return nil, err
	}
	out := &File{Columns: columns, file: f, layout: layoutOf(columns)}
	if got := f.Schema().Columns(); len(got) != len(out.layout.names) {
		return nil, fmt.Errorf("the file has %d columns, not %d", len(got), len(out.layout.names))
	}
	at := int64(0)
	for _, g := range f.RowGroups() {
		out.starts = append(out.starts, at)
		at += g.NumRows()
	}
	out.starts = append(out.starts, at)
	return out, nil
}

// damaged turns a panic of the library, on bytes that are not what was written, into an error.
func damaged(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("the snapshot's file is damaged: %v", p)
	}
}

// Len is how many items there are.
func (f *File) Len() int64 { return f.starts[len(f.starts)-1] }

// Want says which columns are read; others stay as they are zero. Own holds places in Columns.
type Want struct {
	Key, Digest, Size, Split, Group, Labels, Target, Blank, Near, Kept, Pieces bool
	Own                                                                        []int
}

// All wants everything.
func (f *File) All() Want {
	w := Want{Key: true, Digest: true, Size: true, Split: true, Group: true, Labels: true, Target: true, Blank: true,
		Near: true, Kept: true, Pieces: true}
	for i := range f.Columns {
		w.Own = append(w.Own, i)
	}
	return w
}

// errStop ends reading.
var errStop = errors.New("stop")

// Items are the items from a row on, in the order of their keys, with the columns wanted. An item is good until the
// next one; its texts stay. The cost is that of the row groups read, not of those before.
func (f *File) Items(from int64, want Want) iter.Seq2[*dataset.Item, error] {
	return func(yield func(*dataset.Item, error) bool) {
		first := max(0, sort.Search(len(f.starts), func(i int) bool { return f.starts[i] > from })-1)
		for g := first; g < len(f.starts)-1; g++ {
			err := f.group(g, from, f.starts[g+1], want, func(it *dataset.Item) bool { return yield(it, nil) })
			if errors.Is(err, errStop) {
				return
			}
			if err != nil {
				yield(nil, err)
				return
			}
		}
	}
}

// Rows are the items of some rows, which rise, with the columns wanted. The cost is that of the row groups they lie in.
func (f *File) Rows(rows []int64, want Want) iter.Seq2[*dataset.Item, error] {
	return func(yield func(*dataset.Item, error) bool) {
		for len(rows) > 0 {
			g := sort.Search(len(f.starts), func(i int) bool { return f.starts[i] > rows[0] }) - 1
			if g < 0 || g >= len(f.starts)-1 {
				return
			}
			last := rows[0] // of those that lie in the group
			for _, r := range rows {
				if r < f.starts[g+1] {
					last = r
				}
			}
			err := f.group(g, rows[0], last+1, want, func(it *dataset.Item) bool {
				if len(rows) > 0 && it.Row == rows[0] {
					rows = rows[1:]
					return yield(it, nil)
				}
				return true
			})
			if errors.Is(err, errStop) {
				return
			}
			if err != nil {
				yield(nil, err)
				return
			}
		}
	}
}

// group reads one row group's columns, each at once, and gives out its rows from one on, up to one.
func (f *File) group(g int, from, upto int64, want Want, each func(*dataset.Item) bool) (err error) {
	defer damaged(&err)
	rows := min(f.starts[g+1], upto) - f.starts[g]
	skip := max(0, from-f.starts[g])
	items := make([]dataset.Item, rows)
	for i := range items {
		items[i].Target = math.NaN()
		items[i].Row = f.starts[g] + int64(i)
	}
	if len(f.Columns) > 0 {
		own := make([]any, int(rows)*len(f.Columns))
		for i := range items {
			items[i].Own = own[i*len(f.Columns) : (i+1)*len(f.Columns) : (i+1)*len(f.Columns)]
		}
	}
	read := func(wanted bool, name string, set func(it *dataset.Item, v parquet.Value)) {
		if wanted && err == nil {
			err = f.column(g, name, items, set)
		}
	}
	texts := map[string]string{}
	text := func(v parquet.Value) string { // the same few come again and again
		b := v.ByteArray()
		if s, ok := texts[string(b)]; ok {
			return s
		}
		s := string(b)
		texts[s] = s
		return s
	}
	read(want.Key, "key", func(it *dataset.Item, v parquet.Value) { it.Key = string(v.ByteArray()) })
	read(want.Digest, "digest", func(it *dataset.Item, v parquet.Value) { copy(it.Digest[:], v.ByteArray()) })
	read(want.Size, "size", func(it *dataset.Item, v parquet.Value) { it.Size = v.Int64() })
	read(want.Split, "split", func(it *dataset.Item, v parquet.Value) { it.Split = text(v) })
	read(want.Group, "group", func(it *dataset.Item, v parquet.Value) { it.Group = text(v) })
	read(want.Labels, "label", func(it *dataset.Item, v parquet.Value) { it.Labels = append(it.Labels, text(v)) })
	read(want.Target, "target", func(it *dataset.Item, v parquet.Value) { it.Target = v.Double() })
	read(want.Blank, "blank", func(it *dataset.Item, v parquet.Value) { it.Blank = v.Boolean() })
	read(want.Near, "near", func(it *dataset.Item, v parquet.Value) { it.Near = uint64(v.Int64()) })
	read(want.Kept, "kept", func(it *dataset.Item, v parquet.Value) { it.Kept = v.Boolean() })
	read(want.Pieces, "pieces", func(it *dataset.Item, v parquet.Value) { it.Pieces = slices.Clone(v.ByteArray()) })
	for _, i := range want.Own {
		kind := f.Columns[i].Kind
		read(true, f.Columns[i].Name, func(it *dataset.Item, v parquet.Value) {
			switch kind {
			case dataset.Number:
				it.Own[i] = v.Double()
			case dataset.Boolean:
				it.Own[i] = v.Boolean()
			default:
				it.Own[i] = text(v)
			}
		})
	}
	if err != nil {
		return err
	}
	for i := skip; i < rows; i++ {
		if !each(&items[i]) {
			return errStop
		}
	}
	return nil
}

// column reads a column of a row group and sets it in the items; what is null is not set.
func (f *File) column(g int, name string, items []dataset.Item, set func(*dataset.Item, parquet.Value)) error {
	pages := f.file.RowGroups()[g].ColumnChunks()[f.layout.at[name]].Pages()
	defer pages.Close()
	at := -1
	buffer := make([]parquet.Value, 512)
	for {
		page, err := pages.ReadPage()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("read %s: %w", name, err)
		}
		values := page.Values()
		for {
			n, err := values.ReadValues(buffer)
			for _, v := range buffer[:n] {
				if v.RepetitionLevel() == 0 {
					at++
				}
				if at < 0 {
					return fmt.Errorf("column %s begins within a row", name)
				}
				if at == len(items) { // as many as were wanted
					parquet.Release(page)
					return nil
				}
				if !v.IsNull() {
					set(&items[at], v)
				}
			}
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return fmt.Errorf("read %s: %w", name, err)
			}
		}
		parquet.Release(page)
	}
	if at != len(items)-1 {
		return fmt.Errorf("column %s has %d values for %d rows", name, at+1, len(items))
	}
	return nil
}

// Find finds items by their keys: which row each is, and where their bytes are kept. Keys without an item are left out.
// The cost is that of the keys of the row groups that they would lie in.
func (f *File) Find(keys []string) (map[string]dataset.Item, error) {
	out := make(map[string]dataset.Item, len(keys))
	want := slices.Sorted(slices.Values(keys))
	groups := len(f.starts) - 1
	for len(want) > 0 {
		var failed error
		// the last group that begins at or before the first key wanted
		g := sort.Search(groups, func(g int) bool {
			first, err := f.first(g)
			failed = cmp.Or(failed, err)
			return first > want[0]
		}) - 1
		if failed != nil {
			return nil, failed
		}
		if g < 0 {
			want = want[1:]
			continue
		}
		next := ""
		if g+1 < groups {
			if next, failed = f.first(g + 1); failed != nil {
				return nil, failed
			}
		}
		end := len(want)
		if next != "" {
			end = sort.SearchStrings(want, next)
		}
		here := want[:end]
		want = want[end:]
		err := f.group(g, f.starts[g], f.starts[g+1], Want{Key: true, Kept: true}, func(it *dataset.Item) bool {
			for len(here) > 0 && here[0] < it.Key {
				here = here[1:]
			}
			if len(here) > 0 && here[0] == it.Key {
				out[it.Key] = *it
			}
			return len(here) > 0
		})
		if err != nil && !errors.Is(err, errStop) {
			return nil, err
		}
	}
	return out, nil
}

// first is the key of the first item of a row group.
func (f *File) first(g int) (string, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if f.firsts == nil {
		f.firsts = map[int]string{}
	}
	if key, ok := f.firsts[g]; ok {
		return key, nil
	}
	key := ""
	err := f.group(g, f.starts[g], f.starts[g]+1, Want{Key: true}, func(it *dataset.Item) bool {
		key = it.Key
		return false
	})
	if err != nil && !errors.Is(err, errStop) {
		return "", err
	}
	f.firsts[g] = key
	return key, nil
}
