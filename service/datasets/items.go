package datasets

import (
	"context"
	"fmt"
	"io"
	"math"
	"slices"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/core/history"
	"kembrel/service/act"
	"kembrel/store/pack"
)

// ListItems lists items of a snapshot, in the order of their keys. Only the columns that the condition names are read
// of all items; the others of those that are listed.
func (s *Datasets) ListItems(ctx context.Context, _ act.Who, in *api.ItemsInput) (*api.Items, error) {
	row, err := s.find(ctx, in.SnapshotInput)
	if err != nil {
		return nil, err
	}
	o, err := s.openWhere(ctx, row, in.Where)
	if err != nil {
		return nil, err
	}
	out := &api.Items{Items: []api.Item{}}
	count := row.Items
	counting := in.Counts && o.condition != nil
	from, want := in.From, kept.Want{}
	if in.Counts {
		out.Count = &count
	}
	if counting {
		from, count = 0, 0
	}
	if o.condition != nil {
		want = o.condition.Want()
	}
	var rows []int64
	if o.condition == nil {
		for r := in.From; r < min(row.Items, in.From+int64(in.Limit)); r++ {
			rows = append(rows, r)
		}
		if next := in.From + int64(in.Limit); next < row.Items {
			out.Next = &next
		}
	} else if err := o.each(ctx, from, want, func(it *dataset.Item) bool {
		if counting {
			count++
		}
		switch {
		case it.Row < in.From:
		case len(rows) < in.Limit:
			rows = append(rows, it.Row)
		case out.Next == nil:
			next := it.Row
			out.Next = &next
		}
		return counting || out.Next == nil
	}); err != nil {
		return nil, err
	}
	for it, err := range o.file.Rows(rows, o.file.All()) {
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, toItem(it, o.found(it.Row), o.file.Columns))
	}
	return out, nil
}

func toItem(it *dataset.Item, found kept.Found, columns []dataset.OwnColumn) api.Item {
	out := api.Item{Row: it.Row, Key: it.Key, Size: it.Size, Split: it.Split, Group: it.Group,
		Labels: slices.Clone(it.Labels), Found: found.Names(), Kept: it.Kept}
	if it.Digest != (chunk.Digest{}) {
		out.Digest = it.Digest.String()
	}
	if !math.IsNaN(it.Target) {
		v := api.Float(it.Target)
		out.Target = &v
	}
	for i, c := range columns {
		act.Own(&out.Own, c.Name, it.Own[i])
	}
	return out
}

// mostParquet is how many items are exported as Parquet, which is written from memory.
const mostParquet = 1_000_000

// ItemsTable writes the items of a snapshot as a table, to what begin gives for the first bytes of it: what is wrong
// before them is an error, and nothing was begun.
func (s *Datasets) ItemsTable(ctx context.Context, in *api.ItemsFileInput, begin func(name string) io.Writer) error {
	row, err := s.find(ctx, in.SnapshotInput)
	if err != nil {
		return err
	}
	o, err := s.openWhere(ctx, row, in.Where)
	if err != nil {
		return err
	}
	to := &late{begin: func() io.Writer { return begin(fmt.Sprintf("%s-%d", row.Dataset, row.Number)) }}
	t := history.NewTable(in.Format, to)
	t.Declare("key", "digest", "size", "split", "group", "label", "found")
	for _, c := range o.file.Columns {
		t.Declare(c.Name)
	}
	t.Fixed()
	n := 0
	if err := o.each(ctx, 0, o.file.All(), func(it *dataset.Item) bool {
		t.Add(tableRow(it, o.found(it.Row), o.file.Columns))
		n++
		return in.Format != "parquet" || n <= mostParquet
	}); err != nil {
		return err
	}
	if in.Format == "parquet" && n > mostParquet {
		return api.Fail(api.TooLarge,
			"a Parquet file of items has at most %d; narrow them with where, or take csv or jsonl",
			mostParquet)
	}
	return t.Close()
}

// late is a writer that is begun with the first bytes.
type late struct {
	begin func() io.Writer
	to    io.Writer
}

func (l *late) Write(p []byte) (int, error) {
	if l.to == nil {
		l.to = l.begin()
	}
	return l.to.Write(p)
}

func tableRow(it *dataset.Item, found kept.Found, columns []dataset.OwnColumn) history.Row {
	row := history.Row{{Name: "key", Value: it.Key}, {Name: "digest", Value: ""}, {Name: "size", Value: it.Size},
		{Name: "split", Value: it.Split}, {Name: "group", Value: it.Group}, {Name: "label", Value: it.Label()},
		{Name: "found", Value: joined(found.Names())}}
	if it.Digest != (chunk.Digest{}) {
		row[1].Value = it.Digest.String()
	}
	for i, c := range columns {
		row = append(row, history.Cell{Name: c.Name, Value: it.Own[i]})
	}
	return row
}

// Bytes opens the bytes of an item that are kept.
func (s *Datasets) Bytes(ctx context.Context, in *api.ItemInput) (*pack.Reader, *dataset.Item, error) {
	row, err := s.find(ctx, in.SnapshotInput)
	if err != nil {
		return nil, nil, err
	}
	f, err := s.open(ctx, row)
	if err != nil {
		return nil, nil, err
	}
	for it, err := range f.Items(in.Row, f.All()) {
		if err != nil {
			return nil, nil, err
		}
		if !it.Kept {
			return nil, nil, api.Fail(api.NotFound,
				"the bytes of %s in %s were not kept; data add --keep-bytes keeps them",
				it.Key, address(row))
		}
		pieces := []chunk.Piece{{Digest: it.Digest, Size: it.Size}}
		if len(it.Pieces) > 0 {
			if pieces, err = chunk.Unpack(it.Pieces); err != nil {
				return nil, nil, err
			}
		}
		r := s.chunks.NewReader(ctx, it.Key, pieces)
		return r, it, r.Prime(0)
	}
	return nil, nil, api.Fail(api.NotFound, "%s has no item %d", address(row), in.Row)
}

// KeptItems finds items of a snapshot by their keys: those whose bytes are kept. The address may name a split, which
// makes no difference.
func (s *Datasets) KeptItems(ctx context.Context, address string, keys []string) (map[string]api.ExampleItem, error) {
	at, err := api.ParseData(address)
	if err != nil {
		return nil, err
	}
	row, err := s.db.FindSnapshot(ctx, at.Dataset, at.Number)
	if err != nil || row.Kept == 0 {
		return nil, err
	}
	f, err := s.open(ctx, row)
	if err != nil {
		return nil, err
	}
	found, err := f.Find(keys)
	out := make(map[string]api.ExampleItem, len(found))
	for key, it := range found {
		if it.Kept {
			out[key] = api.ExampleItem{Dataset: row.Dataset, Number: row.Number, Row: it.Row}
		}
	}
	return out, err
}
