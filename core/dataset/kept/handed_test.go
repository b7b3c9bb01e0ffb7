package kept

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

// handed are items as a program hands them over: without sizes and columns.
func handed(keys ...string) []dataset.Item {
	var out []dataset.Item
	for _, k := range keys {
		out = append(out, dataset.Item{Key: k, Split: "train", Target: math.NaN()})
	}
	return out
}

// apart puts items into a sorter that spills after each, tells those of one key apart, and returns what comes of it.
func apart(t *testing.T, items []dataset.Item) (keys []string, again int64) {
	t.Helper()
	from, to := NewSorter(0, temporary(t)), NewSorter(0, temporary(t))
	defer from.Close()
	defer to.Close()
	for i := range items {
		require.NoError(t, from.Add(&items[i]))
		require.NoError(t, from.spill())
	}
	again, err := from.Apart(to)
	require.NoError(t, err)
	require.NoError(t, to.Each(func(it *dataset.Item) error {
		keys = append(keys, it.Split+" "+it.Key)
		return nil
	}))
	return keys, again
}

// An item that comes for two splits is one of each; one that comes twice for one is one.
func TestItemsThatComeTwice(t *testing.T) {
	items := append(handed("c", "a", "b", "a", "a!"), dataset.Item{Key: "a", Split: "val", Target: math.NaN()},
		dataset.Item{Key: "a", Split: "bench", Target: math.NaN()},
		dataset.Item{Key: "d", Split: "val", Target: math.NaN()})
	keys, again := apart(t, items)
	require.Equal(t, int64(1), again)
	require.Equal(t, []string{"train a", "bench a (bench)", "val a (val)", "train a!", "train b", "train c", "val d"},
		keys)

	keys, again = apart(t, nil)
	require.Empty(t, keys)
	require.Zero(t, again)
}

// What was handed over for two splits leaks, whether or not its bytes are known.
func TestItemsOfTwoSplits(t *testing.T) {
	items := append(handed("a", "b", "c"),
		dataset.Item{Key: dataset.KeyIn("b", "val"), Split: "val", Target: math.NaN()},
		dataset.Item{Key: "e (train)", Split: "val", Target: math.NaN()})
	f, _ := made(t, nil, items)
	found, marks, err := Check(f, false)
	require.NoError(t, err)
	require.Equal(t, []dataset.Crossing{{Kind: "same-item", Splits: [2]string{"train", "val"}, Shared: 1,
		Items: [2]int64{1, 1}}}, found.Crossings)
	require.Equal(t, int64(1), found.Splits[1].Leaking)
	require.Equal(t, []string{"same-item"}, marks[2].Names())
	require.EqualValues(t, 5, found.Unknown)
	require.Empty(t, found.Tallies, "of sizes and bytes nothing is known, so nothing is wrong with them")

	require.Equal(t, marks, DecodeMarks(EncodeMarks(marks)))
}

// Items handed over are those of a snapshot where nothing that they tell is otherwise.
func TestItemsThatASnapshotHas(t *testing.T) {
	var items []dataset.Item
	for n := range 100 {
		items = append(items, clip(n))
	}
	f, _ := made(t, harbourColumns, items)
	train := func() []dataset.Item {
		var out []dataset.Item
		for n := range 100 {
			if it := clip(n); it.Split == "train" {
				out = append(out, dataset.Item{Key: it.Key, Split: it.Split, Target: math.NaN()})
			}
		}
		return out
	}
	for name, c := range map[string]struct {
		change func([]dataset.Item) []dataset.Item
		want   bool
	}{
		"keys alone": {func(l []dataset.Item) []dataset.Item { return l }, true},
		"all that is told": {func(l []dataset.Item) []dataset.Item {
			it := clip(7)
			l[7].Digest, l[7].Group, l[7].Labels = it.Digest, it.Group, it.Labels
			return l
		}, true},
		"one too few":    {func(l []dataset.Item) []dataset.Item { return l[:len(l)-1] }, false},
		"not the first":  {func(l []dataset.Item) []dataset.Item { return l[1:] }, false},
		"one too many":   {func(l []dataset.Item) []dataset.Item { return append(l, handed("zz")...) }, false},
		"one between":    {func(l []dataset.Item) []dataset.Item { return append(handed("a"), l...) }, false},
		"another label":  {func(l []dataset.Item) []dataset.Item { l[3].Labels = []string{"hulk"}; return l }, false},
		"a number":       {func(l []dataset.Item) []dataset.Item { l[3].Target = 4; return l }, false},
		"another group":  {func(l []dataset.Item) []dataset.Item { l[3].Group = "voyage9"; return l }, false},
		"another digest": {func(l []dataset.Item) []dataset.Item { l[3].Digest = chunk.Sum(nil); return l }, false},
		"another split":  {func(l []dataset.Item) []dataset.Item { l[3].Split = "val"; return l }, false},
	} {
		list := c.change(train())
		got, err := Agrees(func(each func(*dataset.Item) error) error {
			for i := range list {
				if err := each(&list[i]); err != nil {
					return err
				}
			}
			return nil
		}, f)
		require.NoError(t, err, name)
		require.Equal(t, c.want, got, name)
	}
}
