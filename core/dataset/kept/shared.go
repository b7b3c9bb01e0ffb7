package kept

import (
	"encoding/binary"
	"slices"

	"kembrel/core/chunk"
)

// Shared counts the items of one split that training on a split of another snapshot has seen too: by key, by bytes, or
// as of the same group. "" is all of a snapshot. It reads each once and holds 8 bytes for each key and digest of the
// other: O((n + m) log m). Two different keys are taken for one with a chance of n m / 2^64.
func Shared(of *File, split string, in *File, trained string) (items int64, err error) {
	want := Want{Key: true, Digest: true, Split: true, Group: true}
	var keys, digests []uint64
	groups := map[string]bool{}
	for it, err := range in.Items(0, want) {
		if err != nil {
			return 0, err
		}
		if trained != "" && it.Split != trained {
			continue
		}
		keys = append(keys, short(chunk.Sum([]byte(it.Key))))
		if it.Digest != (chunk.Digest{}) {
			digests = append(digests, short(it.Digest))
		}
		if it.Group != "" {
			groups[it.Group] = true
		}
	}
	slices.Sort(keys)
	slices.Sort(digests)
	has := func(list []uint64, v uint64) bool { _, found := slices.BinarySearch(list, v); return found }
	for it, err := range of.Items(0, want) {
		if err != nil {
			return 0, err
		}
		if split == "" || it.Split == split {
			items += toOne(groups[it.Group] || has(keys, short(chunk.Sum([]byte(it.Key)))) ||
				it.Digest != (chunk.Digest{}) && has(digests, short(it.Digest)))
		}
	}
	return items, nil
}

func toOne(yes bool) int64 {
	if yes {
		return 1
	}
	return 0
}

func short(d chunk.Digest) uint64 { return binary.LittleEndian.Uint64(d[:]) }
