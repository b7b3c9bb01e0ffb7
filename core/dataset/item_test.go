package dataset

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
)

var harbourColumns = []OwnColumn{{"berthed", Boolean}, {"depth", Number}, {"station", Text}}

func clip(n int) Item {
	key := fmt.Sprintf("voyage%d/clip-%d.npy", n/12, n)
	return Item{Key: key, Digest: chunk.Sum([]byte(key)), Size: 1664, Split: "train",
		Group:  fmt.Sprintf("voyage%d", n/12),
		Target: math.NaN(), Labels: []string{"tug"}, Own: []any{n%2 == 0, float64(n % 40), "quay"}}
}

func TestMedia(t *testing.T) {
	for head, want := range map[string]Media{
		"\x89PNG\r\n\x1a\n": {"picture", "image/png"}, "RIFF\x00\x00\x00\x00WAVEfmt ": {"sound", "audio/wav"},
		"fLaC\x00": {"sound", "audio/flac"}, "OggS\x00": {"sound", "audio/ogg"},
		"\x93NUMPY\x01\x00": {"array", "application/octet-stream"}, "<svg onload=x>": {"picture", "image/svg+xml"},
		"<html><script>": {"text", "text/plain; charset=utf-8"}, "the tug \xc3": {"text", "text/plain; charset=utf-8"},
		"\x00\x01\x02": {"", "application/octet-stream"}, "a\x1b[2J": {"", "application/octet-stream"},
		"": {"text", "text/plain; charset=utf-8"}, "\xff\xfe\xfd": {"", "application/octet-stream"},
	} {
		require.Equal(t, want, MediaOf([]byte(head)), "%q", head)
	}
}

func TestFolding(t *testing.T) {
	require.Equal(t, FoldText([]byte("The tug passes the mole.")), FoldText([]byte("the TUG, passes: the mole")))
	require.NotEqual(t, FoldText([]byte("The tug passes the mole.")), FoldText([]byte("The tug passes the pier.")))
	require.Zero(t, FoldText([]byte("A tug.")), "too few letters to say anything")
}

func TestBadItems(t *testing.T) {
	for name, spoil := range map[string]func(*Item){
		"has no key":      func(it *Item) { it.Key = "" },
		"1001 bytes":      func(it *Item) { it.Key = string(make([]byte, 1001)) },
		"cannot be shown": func(it *Item) { it.Key = "a\x1b[2Jb" }, "its size": func(it *Item) { it.Size = -1 },
		"splits are": func(it *Item) { it.Split = "Train Set" }, "its group": func(it *Item) { it.Group = "\xff" },
		"101 labels":     func(it *Item) { it.Labels = make([]string, 101) },
		"is empty":       func(it *Item) { it.Labels = []string{""} },
		"infinite":       func(it *Item) { it.Target = math.Inf(1) },
		"2 values for 3": func(it *Item) { it.Own = it.Own[:2] },
		"is a number":    func(it *Item) { it.Own[1] = "deep" }, "is a boolean": func(it *Item) { it.Own[0] = 1.0 },
		"is a text": func(it *Item) { it.Own[2] = "\xff" }, "its chunks": func(it *Item) { it.Pieces = []byte{1} },
	} {
		it := clip(1)
		require.NoError(t, it.Check(harbourColumns))
		spoil(&it)
		var wrong *ErrItem
		require.ErrorAs(t, it.Check(harbourColumns), &wrong, name)
		require.Contains(t, wrong.What, name)
	}
	for _, bad := range [][]OwnColumn{{{Name: "key", Kind: Text}}, {{Name: "", Kind: Text}},
		{{Name: "a", Kind: "list"}}, {{Name: "a", Kind: Text}, {Name: "a", Kind: Number}},
		make([]OwnColumn, MaxColumns+1), {{Name: "a\n", Kind: Text}}} {
		require.Error(t, CheckColumns(bad))
	}
	require.NoError(t, CheckColumns(harbourColumns))
}

func FuzzDecodeBlock(f *testing.F) {
	f.Add(EncodeBlock([]Item{clip(1), clip(2)}), 3)
	f.Add([]byte{0}, 1)
	f.Fuzz(func(t *testing.T, block []byte, columns int) {
		columns = min(max(columns, 0), 5)
		var items []Item
		err := DecodeBlock(block, columns, func(it *Item) error {
			items = append(items, *it)
			return nil
		})
		if err == nil {
			again := EncodeBlock(items)
			n := 0
			require.NoError(t, DecodeBlock(again, columns, func(*Item) error { n++; return nil }))
			require.Len(t, items, n)
		}
	})
}
