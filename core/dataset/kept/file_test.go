package kept

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

var harbourColumns = []dataset.OwnColumn{{Name: "berthed", Kind: dataset.Boolean},
	{Name: "depth", Kind: dataset.Number}, {Name: "station", Kind: dataset.Text}}

// clip makes an item of the harbour: every twentieth voyage is in val, every twentieth behind it in test.
func clip(n int) dataset.Item {
	voyage := n / 12
	it := dataset.Item{Key: fmt.Sprintf("voyage%05d/clip-%07d.npy", voyage, n), Size: int64(1000 + n%7), Split: "train",
		Group: fmt.Sprintf("voyage%05d", voyage), Target: math.NaN(),
		Labels: []string{[]string{"tug", "ferry", "trawler"}[voyage%3]},
		Own:    []any{n%2 == 0, float64(n % 40), "quay"}}
	it.Digest = chunk.Sum([]byte(it.Key))
	switch voyage % 20 {
	case 3:
		it.Split = "val"
	case 4:
		it.Split = "test"
	}
	return it
}

// scratch is a temporary file that goes when it is closed.
type scratch struct{ *os.File }

func (s scratch) Close() error { return errors.Join(s.File.Close(), os.Remove(s.Name())) }

func temporary(t testing.TB) func() (Scratch, error) {
	return func() (Scratch, error) {
		f, err := os.CreateTemp(t.TempDir(), "run")
		return scratch{f}, err
	}
}

// made writes items as a snapshot and opens it.
func made(t testing.TB, columns []dataset.OwnColumn, items []dataset.Item) (*File, *Sum) {
	t.Helper()
	s := NewSorter(len(columns), temporary(t))
	defer s.Close()
	for i := range items {
		require.NoError(t, items[i].Check(columns))
		require.NoError(t, s.Add(&items[i]))
	}
	var out bytes.Buffer
	sum, err := Write(&out, columns, s.Each)
	require.NoError(t, err)
	f, err := Open(bytes.NewReader(out.Bytes()), int64(out.Len()), columns)
	require.NoError(t, err)
	return f, sum
}

func all(t testing.TB, f *File, from int64) (out []dataset.Item) {
	t.Helper()
	for it, err := range f.Items(from, f.All()) {
		require.NoError(t, err)
		out = append(out, *it)
	}
	return out
}

// plainly is an item without what tests cannot compare (NaN) or did not set (Row).
func plainly(items []dataset.Item) []string {
	out := make([]string, len(items))
	for i, it := range items {
		it.Row = 0
		out[i] = fmt.Sprintf("%+v", it)
	}
	return out
}

// Whatever order items come in, the snapshot is the same; what goes in comes out, from any row on.
func TestItemsComeBack(t *testing.T) {
	var items []dataset.Item
	for n := range 20_000 {
		it := clip(n)
		switch n % 100 {
		case 1:
			it.Labels, it.Target = nil, float64(n)
		case 2:
			it.Labels = []string{"ferry", "tug"}
		case 3:
			it.Own = []any{nil, nil, nil}
		case 4:
			it.Split, it.Group, it.Labels, it.Digest = "", "", nil, chunk.Digest{}
		case 5:
			it.Blank, it.Kept, it.Near, it.Pieces = true, true, math.MaxUint64, bytes.Repeat([]byte{7}, 72)
		case 6:
			it.Own = []any{false, math.NaN(), ""}
		}
		items = append(items, it)
	}
	want := plainly(items)
	mixed := append([]dataset.Item(nil), items...)
	rand.New(rand.NewPCG(1, 2)).Shuffle(len(mixed), func(i, j int) { mixed[i], mixed[j] = mixed[j], mixed[i] })
	f, sum := made(t, harbourColumns, mixed)
	_, again := made(t, harbourColumns, items)
	require.Equal(t, again, sum)
	require.EqualValues(t, 20_000, f.Len())
	require.Equal(t, want, plainly(all(t, f, 0)))
	for _, from := range []int64{1, GroupRows - 1, GroupRows, GroupRows + 1, 19_999, 20_000, 30_000} {
		got := all(t, f, from)
		require.Equal(t, want[min(from, 20_000):], plainly(got), from)
		if len(got) > 0 {
			require.Equal(t, from, got[0].Row)
		}
	}
	var names []string
	for _, s := range sum.Splits {
		names = append(names, s.Name)
	}
	require.Equal(t, []string{"train", "val", "test", ""}, names)
	for it, err := range f.Items(0, Want{Group: true}) {
		require.NoError(t, err)
		require.Empty(t, it.Key, "only what is wanted is read")
	}
}

// Anything that makes an item another one makes the snapshot another; where bytes are kept does not.
func TestWhatMakesASnapshot(t *testing.T) {
	fresh := func() []dataset.Item { return []dataset.Item{clip(1), clip(2), clip(700)} }
	_, sum := made(t, harbourColumns, fresh())
	for name, change := range map[string]func(*dataset.Item){
		"key": func(it *dataset.Item) { it.Key += "x" }, "digest": func(it *dataset.Item) { it.Digest[0]++ },
		"size": func(it *dataset.Item) { it.Size++ }, "split": func(it *dataset.Item) { it.Split = "other" },
		"group":  func(it *dataset.Item) { it.Group = "other" },
		"label":  func(it *dataset.Item) { it.Labels = []string{"dredger"} },
		"number": func(it *dataset.Item) { it.Target = 0 },
		"own":    func(it *dataset.Item) { it.Own = []any{nil, 1.0, "quay"} },
	} {
		items := fresh()
		change(&items[1])
		_, other := made(t, harbourColumns, items)
		require.NotEqual(t, sum.Digest, other.Digest, name)
	}
	items := fresh()
	items[1].Kept, items[1].Pieces = true, make([]byte, 36)
	_, other := made(t, harbourColumns, items)
	require.Equal(t, sum.Digest, other.Digest)
	require.EqualValues(t, 1, other.Kept)
	_, one := made(t, harbourColumns, fresh()[:1])
	require.NotEqual(t, sum.Digest, one.Digest)
	_, none := made(t, nil, nil)
	require.Zero(t, none.Items)
}

// What does not fit in memory is sorted on disk, all the same; keys that repeat are named.
func TestSortingOnDisk(t *testing.T) {
	long := string(bytes.Repeat([]byte("deep "), 700))
	var runs int
	s := NewSorter(1, func() (Scratch, error) { runs++; return temporary(t)() })
	defer s.Close()
	const n = 30_000
	order := rand.New(rand.NewPCG(3, 4)).Perm(n)
	for _, i := range order {
		it := dataset.Item{Key: fmt.Sprintf("%06d", i), Target: math.NaN(), Own: []any{long}}
		require.NoError(t, s.Add(&it))
		if i%10_000 == 0 {
			require.NoError(t, s.Add(&it))
		}
	}
	require.Greater(t, runs, 2)
	next := 0
	err := s.Each(func(it *dataset.Item) error {
		require.Equal(t, fmt.Sprintf("%06d", next), it.Key)
		require.Equal(t, long, it.Own[0])
		next++
		return nil
	})
	require.Equal(t, n, next)
	var double *ErrKeys
	require.ErrorAs(t, err, &double)
	require.Equal(t, &ErrKeys{Keys: []string{"000000", "010000", "020000"}, Count: 3}, double)

	full := NewSorter(1, func() (Scratch, error) { return nil, errors.New("no space left") })
	for i := 0; ; i++ {
		it := dataset.Item{Key: fmt.Sprint(i), Own: []any{long}}
		if err := full.Add(&it); err != nil {
			require.ErrorContains(t, err, "no space left")
			break
		}
		require.Less(t, i, n)
	}
}

// A program that hands over its items in any order, with what it has of them, has the fingerprints of the split.
func TestFingerprints(t *testing.T) {
	var items []dataset.Item
	for n := range 500 {
		items = append(items, clip(n))
	}
	_, sum := made(t, harbourColumns, items)
	var keys, both, digests dataset.Prints
	for i := len(items) - 1; i >= 0; i-- {
		if items[i].Split != "train" {
			continue
		}
		keys.Add(items[i].Key, chunk.Digest{})
		both.Add(items[i].Key, items[i].Digest)
		digests.Add("", items[i].Digest)
	}
	train := sum.Splits[0]
	require.Equal(t, train.Keys, keys.Keys.Digest())
	require.Equal(t, train.Pairs, both.Pairs.Digest())
	require.Equal(t, train.Keys, both.Keys.Digest())
	require.Equal(t, train.Digests, digests.Digests.Digest())
	keys.Add(items[0].Key, chunk.Digest{})
	require.NotEqual(t, train.Keys, keys.Keys.Digest(), "one too many")
}

func BenchmarkWrite(b *testing.B) {
	items := make([]dataset.Item, 100_000)
	for n := range items {
		items[n] = clip(n)
	}
	b.ReportAllocs()
	for b.Loop() {
		made(b, harbourColumns, items)
	}
}

func TestSomeRows(t *testing.T) {
	var items []dataset.Item
	for n := range 20_000 {
		items = append(items, clip(n))
	}
	f, _ := made(t, harbourColumns, items)
	rows := []int64{0, 3, GroupRows - 1, GroupRows, 19_999}
	var got []int64
	for it, err := range f.Rows(append(rows, 20_001), Want{Key: true}) {
		require.NoError(t, err)
		require.Equal(t, items[it.Row].Key, it.Key)
		got = append(got, it.Row)
	}
	require.Equal(t, rows, got)
	for it := range f.Rows(rows, Want{}) {
		require.Zero(t, it.Row)
		break
	}
}
