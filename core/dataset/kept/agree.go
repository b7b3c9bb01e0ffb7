package kept

import (
	"errors"
	"iter"
	"math"
	"slices"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

// Agrees reports whether items, in order of their keys, are those of splits of a snapshot as far as they tell: all of
// each split and no others, with the digests, groups and labels that are told. It stops at the first that is not:
// O(n + m).
func Agrees(items func(func(*dataset.Item) error) error, with *File) (bool, error) {
	next, stop := iter.Pull2(with.Items(0, Want{Key: true, Digest: true, Split: true, Group: true, Labels: true,
		Target: true}))
	defer stop()
	told, other := map[string]bool{}, map[string]bool{} // splits of the items, and of what only the snapshot has
	failed := items(func(it *dataset.Item) error {
		told[it.Split] = true
		for {
			has, err, ok := next()
			switch {
			case err != nil:
				return err
			case !ok || has.Key > it.Key:
				return errStop
			case has.Key < it.Key:
				other[has.Split] = true
				continue
			}
			if has.Split != it.Split || it.Digest != (chunk.Digest{}) && it.Digest != has.Digest ||
				it.Group != "" && it.Group != has.Group || !sameLabel(it, has) {
				return errStop
			}
			return nil
		}
	})
	if failed != nil {
		if errors.Is(failed, errStop) {
			failed = nil
		}
		return false, failed
	}
	for {
		has, err, ok := next()
		if err != nil {
			return false, err
		}
		if !ok {
			break
		}
		other[has.Split] = true
	}
	for split := range told {
		if other[split] {
			return false, nil
		}
	}
	return true, nil
}

// sameLabel reports whether an item has the label that is told, if one is.
func sameLabel(told, has *dataset.Item) bool {
	if len(told.Labels) == 0 && math.IsNaN(told.Target) {
		return true
	}
	return slices.Equal(told.Labels, has.Labels) &&
		(told.Target == has.Target || math.IsNaN(told.Target) && math.IsNaN(has.Target))
}
