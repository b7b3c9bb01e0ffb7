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

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

// GroupRows is how many items a row group holds.
const GroupRows = 8192

// nodes are the columns of a snapshot's file beside those of one's own.
var nodes = map[string]parquet.Node{
	"key": parquet.String(), "digest": parquet.Leaf(parquet.ByteArrayType), "size": parquet.Int(64),
	"split": parquet.Encoded(parquet.String(), &parquet.RLEDictionary),
	"group": parquet.Encoded(parquet.String(), &parquet.RLEDictionary),
	"label": parquet.Encoded(parquet.Repeated(parquet.String()), &parquet.RLEDictionary),
	"blank": parquet.Leaf(parquet.BooleanType), "kept": parquet.Leaf(parquet.BooleanType),
	"target": parquet.Optional(parquet.Leaf(parquet.DoubleType)), "near": parquet.Int(64),
	"pieces": parquet.Optional(parquet.Leaf(parquet.ByteArrayType)),
}

func ownNode(k dataset.Kind) parquet.Node {
	switch k {
	case dataset.Number:
		return parquet.Optional(parquet.Leaf(parquet.DoubleType))
	case dataset.Boolean:
		return parquet.Optional(parquet.Leaf(parquet.BooleanType))
	}
	return parquet.Optional(parquet.String())
}

// layout is where columns lie: by name.
type layout struct {
	columns []dataset.OwnColumn
	names   []string
	at      map[string]int
}

func layoutOf(columns []dataset.OwnColumn) layout {
	l := layout{columns: columns, at: map[string]int{}}
	for name := range nodes {
		l.names = append(l.names, name)
	}
	for _, c := range columns {
		l.names = append(l.names, c.Name)
	}
	sort.Strings(l.names)
	for i, name := range l.names {
		l.at[name] = i
	}
	return l
}

func (l layout) schema() *parquet.Schema {
	group := parquet.Group{}
	for name, node := range nodes {
		group[name] = parquet.Compressed(node, &parquet.Zstd)
	}
	for _, c := range l.columns {
		group[c.Name] = parquet.Compressed(ownNode(c.Kind), &parquet.Zstd)
	}
	return parquet.NewSchema("items", group)
}

// row puts an item into the columns' order.
func (l layout) row(it *dataset.Item, out parquet.Row) parquet.Row {
	own := make(map[string]any, len(l.columns))
	for i, c := range l.columns {
		own[c.Name] = it.Own[i]
	}
	for i, name := range l.names {
		switch name {
		case "key":
			out = append(out, parquet.ByteArrayValue([]byte(it.Key)).Level(0, 0, i))
		case "digest":
			var d []byte
			if it.Digest != (chunk.Digest{}) {
				d = it.Digest[:]
			}
			out = append(out, parquet.ByteArrayValue(d).Level(0, 0, i))
		case "size":
			out = append(out, parquet.Int64Value(it.Size).Level(0, 0, i))
		case "split":
			out = append(out, parquet.ByteArrayValue([]byte(it.Split)).Level(0, 0, i))
		case "group":
			out = append(out, parquet.ByteArrayValue([]byte(it.Group)).Level(0, 0, i))
		case "label":
			if len(it.Labels) == 0 {
				out = append(out, parquet.NullValue().Level(0, 0, i))
			}
			for k, text := range it.Labels {
				out = append(out, parquet.ByteArrayValue([]byte(text)).Level(min(k, 1), 1, i))
			}
		case "target":
			if math.IsNaN(it.Target) {
				out = append(out, parquet.NullValue().Level(0, 0, i))
			} else {
				out = append(out, parquet.DoubleValue(it.Target).Level(0, 1, i))
			}
		case "blank":
			out = append(out, parquet.BooleanValue(it.Blank).Level(0, 0, i))
		case "kept":
			out = append(out, parquet.BooleanValue(it.Kept).Level(0, 0, i))
		case "near":
			out = append(out, parquet.Int64Value(int64(it.Near)).Level(0, 0, i))
		case "pieces":
			if len(it.Pieces) == 0 {
				out = append(out, parquet.NullValue().Level(0, 0, i))
			} else {
				out = append(out, parquet.ByteArrayValue(it.Pieces).Level(0, 1, i))
			}
		default:
			switch v := own[name].(type) {
			case string:
				out = append(out, parquet.ByteArrayValue([]byte(v)).Level(0, 1, i))
			case float64:
				out = append(out, parquet.DoubleValue(v).Level(0, 1, i))
			case bool:
				out = append(out, parquet.BooleanValue(v).Level(0, 1, i))
			default:
				out = append(out, parquet.NullValue().Level(0, 0, i))
			}
		}
	}
	return out
}

// SplitSum is what a split of a snapshot comes to.
type SplitSum struct {
	Name    string
	Items   int64
	Bytes   int64
	Kept    int64 // items whose bytes are in the store
	Keys    chunk.Digest
	Pairs   chunk.Digest
	Digests chunk.Digest
}

// Sum is what a snapshot comes to.
type Sum struct {
	Digest chunk.Digest // of all items in order: keys, digests, sizes, splits, groups, labels, own columns
	Items  int64
	Bytes  int64
	Kept   int64
	Splits []SplitSum // by name; "" is the items without one, and none of the splits
}

// Write writes items, which come in the order of their keys, as a snapshot's file.
func Write(to io.Writer, columns []dataset.OwnColumn, each func(add func(*dataset.Item) error) error) (*Sum, error) {
	l := layoutOf(columns)
	w := parquet.NewWriter(to, l.schema(), parquet.MaxRowsPerRowGroup(GroupRows), parquet.CreatedBy("kembrel", "1", ""))
	out := &Sum{}
	hash := chunk.NewHash()
	splits := map[string]*SplitSum{}
	prints := map[string]*dataset.Prints{}
	rows := make([]parquet.Row, 0, 512)
	var encoded []byte
	flush := func() error {
		_, err := w.WriteRows(rows)
		rows = rows[:0]
		return err
	}
	err := each(func(it *dataset.Item) error {
		encoded = dataset.AppendIdentity(encoded[:0], it, columns)
		hash.Write(encoded)
		s := splits[it.Split]
		if s == nil && len(splits) == dataset.MaxSplits {
			return &dataset.ErrItem{Key: it.Key, What: fmt.Sprintf("split %q would be one of more than %d", it.Split,
				dataset.MaxSplits)}
		}
		if s == nil {
			s, prints[it.Split] = &SplitSum{Name: it.Split}, &dataset.Prints{}
			splits[it.Split] = s
		}
		s.Items++
		s.Bytes += it.Size
		if it.Kept {
			s.Kept++
		}
		prints[it.Split].Add(it.Key, it.Digest)
		rows = append(rows, l.row(it, make(parquet.Row, 0, len(l.names)+2)))
		if len(rows) == cap(rows) {
			return flush()
		}
		return nil
	})
	if err == nil {
		err = flush()
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, err
	}
	out.Digest = hash.Digest()
	for name, s := range splits {
		p := prints[name]
		s.Keys, s.Pairs, s.Digests = p.Keys.Digest(), p.Pairs.Digest(), p.Digests.Digest()
		out.Items, out.Bytes, out.Kept = out.Items+s.Items, out.Bytes+s.Bytes, out.Kept+s.Kept
		out.Splits = append(out.Splits, *s)
	}
	slices.SortFunc(out.Splits, func(a, b SplitSum) int { return dataset.SplitOrder(a.Name, b.Name) })
	return out, nil
}

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
