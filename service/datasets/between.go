package datasets

import (
	"cmp"
	"context"

	"kembrel/api"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/service/act"
	"kembrel/store"
)

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
	from := cmp.Or(in.From, act.Deref(row.Base), row.Number-1)
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
