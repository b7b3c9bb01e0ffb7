package kept

import (
	"bytes"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/dataset"
)

func changed(t *testing.T, base *File, columns []dataset.OwnColumn, sets dataset.Sets,
	items ...dataset.Item) (*File, error) {
	t.Helper()
	s := NewSorter(len(columns), temporary(t))
	defer s.Close()
	for i := range items {
		require.NoError(t, s.Add(&items[i]))
	}
	var out bytes.Buffer
	all := dataset.ChangedColumns(base.Columns, columns)
	if _, err := Write(&out, all,
		func(add func(*dataset.Item) error) error { return Apply(base, s.Each, columns, sets, add) }); err != nil {
		return nil, err
	}
	return Open(bytes.NewReader(out.Bytes()), int64(out.Len()), all)
}

// A change sets what it says, adds what is new, leaves out what goes; all else stays as it is.
func TestChanges(t *testing.T) {
	var items []dataset.Item
	for n := range 100 {
		items = append(items, clip(n))
	}
	base, _ := made(t, harbourColumns, items)
	columns := []dataset.OwnColumn{{Name: "depth", Kind: dataset.Number}, {Name: "listener", Kind: dataset.Text}}
	relabelled := dataset.Item{Key: clip(5).Key, Labels: []string{"dredger"}, Target: math.NaN(),
		Own: []any{math.NaN(), "Ines"}}
	gone := dataset.Item{Key: clip(0).Key, Gone: true, Target: math.NaN(), Own: []any{nil, nil}}
	added := dataset.Item{Key: "zz", Labels: []string{"tug"}, Split: "val", Target: math.NaN(), Size: 7,
		Own: []any{3.0, nil}}
	f, err := changed(t, base, columns, dataset.Sets{Label: true, Own: []string{"listener"}}, relabelled, gone, added)
	require.NoError(t, err)
	require.Equal(t, []dataset.OwnColumn{{Name: "berthed", Kind: dataset.Boolean},
		{Name: "depth", Kind: dataset.Number}, {Name: "listener", Kind: dataset.Text},
		{Name: "station", Kind: dataset.Text}}, f.Columns)
	got := all(t, f, 0)
	require.Len(t, got, 100)
	require.Equal(t, clip(1).Key, got[0].Key)
	require.Equal(t, []string{"dredger"}, got[4].Labels)
	require.Equal(t, "train", got[4].Split, "what is not set stays")
	require.Equal(t, []any{false, 5.0, "Ines", "quay"}, got[4].Own)
	require.Equal(t, []any{nil, 3.0, nil, nil}, got[99].Own)
	require.Equal(t, []any{false, 19.0, nil, "quay"}, got[98].Own)
	d, err := Differ(base, f, nil)
	require.NoError(t, err)
	require.Equal(t, map[dataset.Change]int64{dataset.Added: 1, dataset.Gone: 1, dataset.Relabelled: 1}, d.Counts)

	same, err := changed(t, base, nil, dataset.Sets{})
	require.NoError(t, err)
	require.Equal(t, plainly(items), plainly(all(t, same, 0)))
	_, err = changed(t, base, columns, dataset.Sets{}, dataset.Item{Key: "never", Gone: true, Own: []any{nil, nil}})
	var wrong *dataset.ErrItem
	require.ErrorAs(t, err, &wrong)
	require.Equal(t, "never", wrong.Key)
}
