package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/table"
)

func TestPattern(t *testing.T) {
	p, err := ParsePattern(`(?P<split>train|Val)/(?P<group>voyage\d+)/(?P<label>\w+)-(?P<station>[a-z]*)\d+\.npy$`)
	require.NoError(t, err)
	require.Equal(t, []dataset.OwnColumn{{Name: "station", Kind: dataset.Text}}, p.Columns)
	it := dataset.Item{}
	require.True(t, p.Apply("clips/Val/voyage7/tug-quay3.npy", &it))
	require.Equal(t, dataset.Item{Split: "val", Group: "voyage7", Labels: []string{"tug"}, Own: []any{"quay"}}, it)
	it = dataset.Item{}
	require.True(t, p.Apply("train/voyage7/tug-3.npy", &it))
	require.Equal(t, []any{nil}, it.Own, "what is empty is absent")
	require.False(t, p.Apply("test/voyage7/tug-3.npy", &it))
	for _, bad := range []string{"(", "train", `(?P<key>a)`, `(?P<size>\d)`} {
		_, err := ParsePattern(bad)
		require.Error(t, err, bad)
	}
}

// read reads all rows of a table; those that are no items are told by their lines.
func read(t *testing.T, format, content string, set ...string) (*Reader, []dataset.Item, []string) {
	t.Helper()
	table, err := table.Open(format, strings.NewReader(content), table.Options{Lists: true})
	require.NoError(t, err)
	r := NewReader(table)
	for _, s := range set {
		column, as, _ := strings.Cut(s, "=")
		require.NoError(t, r.Set(column, as))
	}
	require.NoError(t, r.Begin())
	var items []dataset.Item
	var bad []string
	for {
		it, _, err := r.Next()
		if errors.Is(err, io.EOF) {
			return r, items, bad
		}
		if err != nil {
			bad = append(bad, err.Error())
			continue
		}
		items = append(items, *it)
	}
}

func TestColumnsAreGuessed(t *testing.T) {
	r, items, bad := read(t, "csv", "id,Split,class,voyage,depth,berthed,note,size\n"+
		"a,Train,tug,v1,12.5,true,x,24\nb,val,,v2,n/a,false,,\nc,,\"[\"\"tug\"\",\"\"ferry\"\"]\",v1,1e3,,y,0\n", "voyage=group")
	require.Empty(t, bad)
	require.Equal(t, []dataset.OwnColumn{{Name: "berthed", Kind: "boolean"}, {Name: "depth", Kind: "number"},
		{Name: "note", Kind: "text"}}, r.Columns)
	require.Equal(t, []any{true, 12.5, "x"}, items[0].Own)
	require.Equal(t, []any{false, nil, nil}, items[1].Own)
	require.Equal(t, "train", items[0].Split)
	require.Equal(t, "v1", items[0].Group)
	require.Equal(t, []string{"ferry", "tug"}, items[2].Labels)
	require.EqualValues(t, 24, items[0].Size)
	require.Nil(t, items[1].Labels)
}

// A row that is no item costs itself, and says where it is wrong.
func TestBadRowsAreTold(t *testing.T) {
	rows := strings.Repeat("k%d,train,5\n", 0)
	for n := range 250 {
		rows += fmt.Sprintf("k%d,train,5\n", n)
	}
	rows += "late,train,deep\n,train,5\nx,No Split,5\n"
	_, items, bad := read(t, "csv", "key,split,depth\n"+rows)
	require.Len(t, items, 250)
	require.Equal(t, []string{`line 252, column 12: depth: "deep" is no number; --map 'depth=text' takes the column as text`,
		"line 253: the item has no key",
		`line 254: item "x": split "no split"; splits are lower-case letters, digits, - _ and ., such as train`}, bad)
	_, _, bad = read(t, "csv", "key,split,depth\n"+rows, "depth=text")
	require.Len(t, bad, 2)
}

func TestRowsAreItems(t *testing.T) {
	r, items, bad := read(t, "jsonl", `{"depth": 3, "label": "tug", "split": "train", "where": {"quay": "north"}}
{"depth": 4.5, "label": ["ferry", "tug", "tug"], "split": "val", "where": {"quay": "mole"}}
{"depth": null, "label": 3, "split": "val"}
`)
	require.Empty(t, bad)
	require.Equal(t, []string{"row-00000001", "row-00000002", "row-00000003"}, []string{items[0].Key, items[1].Key, items[2].Key})
	require.Equal(t, dataset.RowDigest([]string{"tug"}, math.NaN(), r.Columns, []any{3.0, "north"}), items[0].Digest)
	require.Equal(t, []string{"ferry", "tug"}, items[1].Labels, "a list, each once")
	require.NotZero(t, items[0].Size)
	require.NotEqual(t, items[0].Digest, items[1].Digest)

	d := chunk.Sum([]byte("x"))
	_, items, bad = read(t, "csv", "key,digest,gone\na,"+d.String()+",yes\nb,b3:00,\nc,,maybe\n")
	require.Len(t, bad, 2)
	require.Equal(t, d, items[0].Digest)
	require.True(t, items[0].Gone)
}

func TestReservedNames(t *testing.T) {
	r, _, _ := read(t, "csv", "key,found,text\na,x,y\n")
	require.Equal(t, "own found", r.Columns[0].Name)
	table, err := table.Open("csv", strings.NewReader("a,b\n1,2\n"), table.Options{})
	require.NoError(t, err)
	reader := NewReader(table)
	require.ErrorContains(t, reader.Set("c", "key"), "it has: a, b")
	require.ErrorContains(t, reader.Set("a", "weather"), "means nothing")
	require.NoError(t, reader.Set("a", ""))
	require.NoError(t, reader.Begin())
	require.Equal(t, []dataset.OwnColumn{{Name: "b", Kind: "number"}}, reader.Columns)
}

// Parquet is read as CSV is, lists and all; a file that is none is refused.
func TestParquet(t *testing.T) {
	type row struct {
		Key   string   `parquet:"key"`
		Label []string `parquet:"label,list"`
		Depth *float64 `parquet:"depth,optional"`
		N     int32    `parquet:"n"`
	}
	var out bytes.Buffer
	deep := 4.25
	require.NoError(t, parquet.Write(&out, []row{{"a", []string{"tug"}, &deep, 1}, {"b", nil, nil, 2}}))
	_, items, bad := read(t, "parquet", out.String(), "n=text")
	require.Empty(t, bad)
	require.Equal(t, []string{"tug"}, items[0].Labels)
	require.Equal(t, []any{4.25, "1"}, items[0].Own)
	require.Equal(t, []any{nil, "2"}, items[1].Own)
	for _, content := range []string{"", "PAR1", "not a parquet file at all", out.String()[:out.Len()-9] + "PAR1",
		"PAR1" + strings.Repeat("x", 50) + "\xff\xff\xff\x7fPAR1"} {
		_, err := table.Open("parquet", strings.NewReader(content), table.Options{})
		require.Error(t, err)
	}
	_, err := table.Open("parquet", io.MultiReader(strings.NewReader(out.String())), table.Options{})
	require.ErrorContains(t, err, "give a file")
}
