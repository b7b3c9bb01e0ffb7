package kept

import (
	"fmt"
	"io"
	"math"
	"slices"
	"sort"

	"github.com/parquet-go/parquet-go"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

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
