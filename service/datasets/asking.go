package datasets

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/core/history"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

func address(s store.Snapshot) string {
	return api.DataAddress{Dataset: s.Dataset, Number: s.Number}.String()
}

// ListDatasets lists datasets by name.
func (s *Datasets) ListDatasets(ctx context.Context, _ act.Who, in *api.PageInput) (*api.Page[api.Dataset], error) {
	rows, err := s.db.ListDatasets(ctx, "", in.Cursor, in.Limit+1)
	if err != nil {
		return nil, err
	}
	return act.Page(rows, in.Limit, toDataset, func(d store.Dataset) string { return d.Name }), nil
}

func toDataset(d store.Dataset) api.Dataset {
	out := api.Dataset{Name: d.Name, Who: d.Who, Created: d.Created, Snapshots: d.Snapshots, Items: d.Items,
		Bytes: d.Bytes, Latest: api.DataAddress{Dataset: d.Name, Number: d.Number}.String(), Trust: "unknown"}
	if d.Latest != nil {
		out.Changed = *d.Latest
	}
	var found *dataset.Findings
	if json.Unmarshal(d.Answers, &found) == nil && found != nil {
		out.Trust = "trusted"
		if leaks(found) {
			out.Trust = "leaking"
		}
	}
	return out
}

// leaks reports whether an item of one split is in another, in one way or another.
func leaks(a *dataset.Findings) bool {
	return slices.ContainsFunc(a.Splits, func(c dataset.SplitCount) bool { return c.Leaking > 0 })
}

// ListSnapshots lists those of a dataset, the newest first.
func (s *Datasets) ListSnapshots(ctx context.Context, _ act.Who,
	in *api.SnapshotsInput) (*api.Page[api.Snapshot], error) {
	below, err := act.CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListSnapshots(ctx, in.Dataset, below, in.Limit+1)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 && below == 0 {
		return nil, noDataset(in.Dataset)
	}
	var wrong error
	page := act.Page(rows, in.Limit, func(r store.Snapshot) api.Snapshot {
		out, err := toSnapshot(r)
		wrong = errors.Join(wrong, err)
		return out
	}, func(r store.Snapshot) string { return fmt.Sprint(r.Number) })
	return page, wrong
}

func noDataset(name string) error {
	return api.Fail(api.NotFound, "there is no dataset %q; kembrel data lists them", name)
}

// find finds a snapshot.
func (s *Datasets) find(ctx context.Context, in api.SnapshotInput) (store.Snapshot, error) {
	row, err := s.db.FindSnapshot(ctx, in.Dataset, in.Number)
	if errors.Is(err, store.ErrNone) {
		if in.Number == 0 {
			return row, noDataset(in.Dataset)
		}
		return row, api.Fail(api.NotFound, "there is no snapshot %s; kembrel data show %s lists them",
			api.DataAddress{Dataset: in.Dataset, Number: in.Number}, in.Dataset)
	}
	return row, err
}

func toSnapshot(r store.Snapshot) (api.Snapshot, error) {
	out := api.Snapshot{Address: address(r), Dataset: r.Dataset, Number: r.Number,
		Digest: chunk.Digest(r.Digest).String(), Items: r.Items, Bytes: r.Bytes, Kept: r.Kept, Rows: r.Rows, Who: r.Who,
		Created: r.Created, State: "looking", Failed: r.Failed, Columns: []dataset.OwnColumn{}}
	if r.Failed != "" {
		out.State = "failed"
	}
	if r.Base != nil {
		out.Base = api.DataAddress{Dataset: r.Dataset, Number: *r.Base}.String()
	}
	err := errors.Join(json.Unmarshal(r.Columns, &out.Columns), json.Unmarshal(r.Source, &out.Source))
	if len(r.Answers) > 0 {
		err = errors.Join(err, json.Unmarshal(r.Answers, &out.Found))
		out.State = "looked-at"
	}
	return out, err
}

func (s *Datasets) snapshotByID(ctx context.Context, id int64, existed bool) (*api.Snapshot, error) {
	row, err := s.db.SnapshotByID(ctx, id)
	if err != nil {
		return nil, err
	}
	out, err := toSnapshot(row)
	out.Existed = existed
	return &out, err
}

// mostUsers is how many runs that used a snapshot are listed.
const mostUsers = 200

// GetSnapshot shows a snapshot with the answers to its questions.
func (s *Datasets) GetSnapshot(ctx context.Context, who act.Who, in *api.SnapshotInput) (*api.Snapshot, error) {
	row, err := s.find(ctx, *in)
	if err != nil {
		return nil, err
	}
	out, err := toSnapshot(row)
	if err != nil {
		return nil, err
	}
	users, err := s.db.DataUsers(ctx, who.Seen(), row.ID, mostUsers)
	if err != nil {
		return nil, err
	}
	out.Users = []api.SnapshotUser{}
	for _, u := range users {
		out.Users = append(out.Users, api.SnapshotUser{Run: act.RunAddress(u.Project, u.Number),
			Title: u.Title, Use: u.Use,
			Split: u.Split, Who: u.Who, Started: u.Started, State: u.State})
	}
	looks, err := s.db.TestLooks(ctx, who.Seen(), row.ID)
	if err != nil {
		return nil, err
	}
	items := int64(0)
	if out.Found != nil {
		for _, c := range out.Found.Splits {
			if c.Name == "test" {
				items = c.Items
			}
		}
	}
	out.Ledger = ledgerOf(looks, items)
	out.Answers = sayAnswers(&out)
	if len(row.Answers) > 0 {
		var looked lookedAt
		if err := json.Unmarshal(row.Answers, &looked); err != nil {
			return nil, err
		}
		if looked.Changes != nil {
			before := api.DataAddress{Dataset: row.Dataset, Number: looked.Against}
			out.Answers.Changed = sayDifference(before.String(), looked.Changes)
		}
	}
	return &out, nil
}

func deref(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}

// open opens a snapshot's file.
//
// One that was opened lately is not opened again: its description of a million items takes longer to read than a page.
// What is read of it does not end with the request that opened it.
func (s *Datasets) open(ctx context.Context, row store.Snapshot) (*kept.File, error) {
	if f, ok := s.files.Get(row.ID); ok {
		return f, nil
	}
	var columns []dataset.OwnColumn
	if err := json.Unmarshal(row.Columns, &columns); err != nil {
		return nil, err
	}
	pieces, err := chunk.Unpack(row.Chunks)
	if err != nil {
		return nil, err
	}
	r := s.chunks.NewReader(context.WithoutCancel(ctx), address(row), pieces)
	f, err := kept.Open(r, r.Size(), columns)
	if err == nil {
		s.files.Add(row.ID, f)
	}
	return f, err
}

// marksOf are the marks of a snapshot's items; nil where it was not looked at.
func (s *Datasets) marksOf(ctx context.Context, row store.Snapshot) ([]kept.Found, error) {
	if len(row.Marks) == 0 {
		return nil, nil
	}
	if marks, ok := s.marks.Get(row.ID); ok {
		return marks, nil
	}
	pieces, err := chunk.Unpack(row.Marks)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(s.chunks.NewReader(ctx, "the marks of "+address(row), pieces))
	if err != nil {
		return nil, err
	}
	marks := kept.DecodeMarks(data)
	s.marks.Add(row.ID, marks)
	return marks, nil
}

// opened is a snapshot open for reading, with the condition that its items are to fulfil; nil: none.
type opened struct {
	row       store.Snapshot
	file      *kept.File
	marks     []kept.Found
	condition *kept.Condition
}

func (s *Datasets) openWhere(ctx context.Context, row store.Snapshot, where string) (o opened, err error) {
	o.row = row
	if o.file, err = s.open(ctx, row); err != nil {
		return o, err
	}
	if o.marks, err = s.marksOf(ctx, row); err != nil || where == "" {
		return o, err
	}
	if o.condition, err = kept.ParseCondition(where, o.file.Columns, time.Now()); err != nil {
		p := api.Fail(api.Invalid, "%v", err)
		p.Field = "where"
		return o, p
	}
	if o.condition.Found && o.marks == nil {
		return o, api.Fail(api.Conflict,
			"%s has not been looked at yet, so what was found in it cannot be asked for; try again in a moment",
			address(row))
	}
	return o, nil
}

func (o opened) found(row int64) kept.Found {
	if row < int64(len(o.marks)) {
		return o.marks[row]
	}
	return 0
}

// each goes through the items from a row on that fulfil the condition, with the columns wanted.
func (o opened) each(ctx context.Context, from int64, want kept.Want, do func(it *dataset.Item) (more bool)) error {
	n := 0
	for it, err := range o.file.Items(from, want) {
		if err != nil {
			return err
		}
		if n++; n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if (o.condition == nil || o.condition.Holds(it, o.found(it.Row))) && !do(it) {
			return nil
		}
	}
	return nil
}

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
// makes
// no difference.
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

// sharedKey names what is counted as shared.
type sharedKey struct {
	of, in         int64
	split, trained string
}

// SharedItems counts the items of a split that a split of another snapshot, on which something was trained, has too.
func (s *Datasets) SharedItems(ctx context.Context, of, in string) (int64, error) {
	var rows [2]store.Snapshot
	var splits [2]string
	var files [2]*kept.File
	for i, address := range []string{of, in} {
		at, err := api.ParseData(address)
		if err != nil {
			return 0, err
		}
		splits[i] = at.Split
		if rows[i], err = s.db.FindSnapshot(ctx, at.Dataset, at.Number); err != nil {
			return 0, err
		}
		if files[i], err = s.open(ctx, rows[i]); err != nil {
			return 0, err
		}
	}
	key := sharedKey{rows[0].ID, rows[1].ID, splits[0], splits[1]}
	if n, known := s.shared.Get(key); known {
		return n, nil
	}
	s.looking.Lock() // one is read at a time, which bounds memory
	defer s.looking.Unlock()
	n, err := kept.Shared(files[0], splits[0], files[1], splits[1])
	if err == nil {
		s.shared.Add(key, n)
	}
	return n, err
}

// GetSnapshotDifference says how a snapshot differs from another.
func (s *Datasets) GetSnapshotDifference(ctx context.Context, _ act.Who,
	in *api.SnapshotDifferenceInput) (*api.SnapshotDifference, error) {
	row, err := s.find(ctx, in.SnapshotInput)
	if err != nil {
		return nil, err
	}
	from := cmp.Or(in.From, deref(row.Base), row.Number-1)
	if from == 0 {
		return nil, api.Fail(api.Invalid, "%s is the first; there is none before", address(row))
	}
	other := api.SnapshotInput{DatasetInput: in.DatasetInput, Number: from}
	if _, err := s.find(ctx, other); err != nil {
		return nil, err
	}
	d, err := s.differ(ctx, row, from)
	if err != nil {
		return nil, err
	}
	before := api.DataAddress{Dataset: row.Dataset, Number: from}.String()
	return &api.SnapshotDifference{From: before, To: address(row), ItemChanges: d, Says: sayDifference(before, d)}, nil
}

// differ compares a snapshot with another of its dataset.
func (s *Datasets) differ(ctx context.Context, row store.Snapshot, from int) (*dataset.ItemChanges, error) {
	other, err := s.db.FindSnapshot(ctx, row.Dataset, from)
	if err != nil {
		return nil, err
	}
	a, err := s.open(ctx, other)
	if err != nil {
		return nil, err
	}
	b, err := s.open(ctx, row)
	if err != nil {
		return nil, err
	}
	d, err := kept.Differ(a, b, func(kept.Differing) bool { return ctx.Err() == nil })
	return d, cmp.Or(err, ctx.Err())
}
