package kept

import (
	"iter"
	"math"
	"slices"

	"kembrel/core/dataset"
)

// Apply calls each for the items of a snapshot with a change made to it, in the order of their keys: O(n + m). changes
// are those of the change, with its columns, as Sorter.Each gives them. Items of the change that the snapshot has not
// are added; those that are gone are left out.
func Apply(base *File, changes func(func(*dataset.Item) error) error, columns []dataset.OwnColumn, sets dataset.Sets,
	each func(*dataset.Item) error) error {
	all := dataset.ChangedColumns(base.Columns, columns)
	place := func(from []dataset.OwnColumn) []int {
		out := make([]int, len(from))
		for i, c := range from {
			out[i] = slices.IndexFunc(all, func(a dataset.OwnColumn) bool { return a.Name == c.Name })
		}
		return out
	}
	ofBase, ofChange := place(base.Columns), place(columns)
	next, stop := iter.Pull2(base.Items(0, base.All()))
	defer stop()
	it, err, ok := next()
	old := func() *dataset.Item {
		out := *it
		out.Own = make([]any, len(all))
		for i, v := range it.Own {
			out.Own[ofBase[i]] = v
		}
		return &out
	}
	failed := changes(func(c *dataset.Item) error {
		for ok && err == nil && it.Key < c.Key {
			if err := each(old()); err != nil {
				return err
			}
			it, err, ok = next()
		}
		if err != nil {
			return err
		}
		if !ok || it.Key != c.Key {
			if c.Gone {
				return &dataset.ErrItem{Key: c.Key, What: "it is to go, and is not there"}
			}
			added := *c
			added.Own = make([]any, len(all))
			for i, v := range c.Own {
				added.Own[ofChange[i]] = v
			}
			return each(&added)
		}
		now := old()
		it, err, ok = next()
		if c.Gone {
			return nil
		}
		if sets.Split {
			now.Split = c.Split
		}
		if sets.Group {
			now.Group = c.Group
		}
		if sets.Label {
			now.Labels, now.Target = c.Labels, c.Target
		}
		if sets.Bytes {
			now.Digest, now.Size, now.Kept, now.Pieces, now.Blank, now.Near = c.Digest, c.Size, c.Kept,
				c.Pieces, c.Blank, c.Near
		}
		for i, v := range c.Own {
			if slices.Contains(sets.Own, columns[i].Name) {
				if f, isNumber := v.(float64); isNumber && math.IsNaN(f) {
					v = nil
				}
				now.Own[ofChange[i]] = v
			}
		}
		return each(now)
	})
	if failed != nil {
		return failed
	}
	for ok && err == nil {
		if err := each(old()); err != nil {
			return err
		}
		it, err, ok = next()
	}
	return err
}
