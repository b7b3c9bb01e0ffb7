package datasets

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/service/act"
	"kembrel/store"
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
