package kept

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

func found(t *testing.T, f *File, rows bool) (*dataset.Findings, map[string][]string) {
	t.Helper()
	answers, marks, err := Check(f, rows)
	require.NoError(t, err)
	by := map[string][]string{}
	for _, it := range all(t, f, 0) {
		if names := marks[it.Row].Names(); len(names) > 0 {
			by[it.Key] = names
		}
	}
	return answers, by
}

// A snapshot that is split by voyage and clean says so.
func TestAnHonestSnapshot(t *testing.T) {
	var items []dataset.Item
	for n := range 6000 {
		items = append(items, clip(n))
	}
	f, _ := made(t, harbourColumns, items)
	a, by := found(t, f, false)
	require.Empty(t, by)
	require.Empty(t, a.Crossings)
	require.Empty(t, a.Tallies)
	require.True(t, a.Grouped)
	bytes := map[string]int64{}
	for _, it := range items {
		bytes[it.Split] += it.Size
	}
	require.Equal(t, []dataset.SplitCount{{Name: "train", Items: 5400, Bytes: bytes["train"], Groups: 450},
		{Name: "val", Items: 300, Bytes: bytes["val"], Groups: 25},
		{Name: "test", Items: 300, Bytes: bytes["test"], Groups: 25}}, a.Splits)
	require.Len(t, a.Labels, 3)
	require.Len(t, a.Alike, 2)
	require.Greater(t, a.Alike[0].P, 0.5)
}

// Each thing that can be wrong is found, on the items that have it and on no others.
func TestWhatIsWrongIsFound(t *testing.T) {
	it := func(key, split, group, label, content string) dataset.Item {
		out := dataset.Item{Key: key, Split: split, Group: group, Target: math.NaN(), Size: int64(len(content)),
			Near: dataset.FoldText([]byte(content))}
		if label != "" {
			out.Labels = []string{label}
		}
		out.Digest = chunk.Sum([]byte(content))
		return out
	}
	items := []dataset.Item{
		it("train/a", "train", "v1", "tug", "the tug passes the mole"),
		it("val/a", "val", "v2", "tug", "The tug passes, the MOLE!"), // nearly the same, and its name
		it("train/b", "train", "v3", "ferry", "a ferry by night"),
		it("test/c", "test", "v4", "ferry", "a ferry by night"),        // the same bytes
		it("val/d", "val", "v1", "trawler", "a trawler comes in late"), // the group of train/a
		it("train/e", "train", "v5", "tug", "dredger at work all day"),
		it("train/f", "train", "v5", "dredger", "dredger at work all day"), // the same bytes, two labels, double
		it("train/g", "train", "v6", "tug", ""),
		it("train/h", "train", "v7", "", "nobody said what this is"),
		it("i", "", "v1", "tug", "in no split, and so in no leak: the tug passes the mole"),
	}
	items = append(items, dataset.Item{Key: "train/z", Split: "train", Group: "v8", Labels: []string{"tug"},
		Size: 24, Blank: true,
		Digest: chunk.Sum(make([]byte, 24)), Target: math.NaN()})
	for n := range 40 {
		items = append(items, it(fmt.Sprintf("train/n%02d", n), "train", fmt.Sprint("w", n), "tug",
			fmt.Sprintf("a usual clip number %d", n)))
	}
	items = append(items, it("train/huge", "train", "v9", "tug", fmt.Sprint(make([]int, 500))))
	f, _ := made(t, nil, items)
	a, by := found(t, f, false)
	require.Equal(t, map[string][]string{
		"train/a": {"same-group", "nearly-same", "same-name"}, "val/a": {"nearly-same", "same-name"},
		"train/b": {"same-bytes", "nearly-same"}, "test/c": {"same-bytes", "nearly-same"}, "val/d": {"same-group"},
		"train/e": {"two-labels"}, "train/f": {"double", "two-labels"}, "train/g": {"empty"}, "train/h": {"no-label"},
		"i": {"no-split"}, "train/z": {"blank"}, "train/huge": {"far-off"}}, by)
	require.Equal(t, []dataset.Crossing{
		{Kind: "same-bytes", Splits: [2]string{"train", "test"}, Shared: 1, Items: [2]int64{1, 1}},
		{Kind: "same-group", Splits: [2]string{"train", "val"}, Shared: 1, Items: [2]int64{1, 1}},
		{Kind: "nearly-same", Splits: [2]string{"train", "val"}, Shared: 1, Items: [2]int64{1, 1}},
		{Kind: "nearly-same", Splits: [2]string{"train", "test"}, Shared: 1, Items: [2]int64{1, 1}},
		{Kind: "same-name", Splits: [2]string{"train", "val"}, Shared: 1, Items: [2]int64{1, 1}}}, a.Crossings)
	require.Equal(t, []dataset.Tally{{Kind: "empty", Items: 1}, {Kind: "blank", Items: 1}, {Kind: "no-label", Items: 1},
		{Kind: "double", Items: 1},
		{Kind: "two-labels", Items: 2}, {Kind: "far-off", Items: 1},
		{Kind: "no-split", Items: 1}}, a.Tallies)
	require.Equal(t, "text", a.Nearly)
	leaking := map[string]int64{}
	for _, s := range a.Splits {
		leaking[s.Name] = s.Leaking
	}
	require.Equal(t, map[string]int64{"train": 2, "val": 2, "test": 1, "": 0}, leaking)
}

// Rows that are equal but for one column are found in two splits.
func TestRowsThatAreNearlyEqual(t *testing.T) {
	columns := []dataset.OwnColumn{{Name: "depth", Kind: dataset.Number}, {Name: "speed", Kind: dataset.Number},
		{Name: "station", Kind: dataset.Text}}
	random := rand.New(rand.NewPCG(5, 6))
	var items []dataset.Item
	for n := range 300 {
		it := dataset.Item{Key: fmt.Sprintf("%04d", n), Split: []string{"train", "val"}[n%2],
			Target: math.NaN(), Size: 1,
			Own: []any{random.Float64(), random.Float64(), "quay"}}
		it.Digest = dataset.RowDigest(nil, it.Target, columns, it.Own)
		items = append(items, it)
	}
	items[11].Own = []any{items[10].Own[0], 0.5, "quay"} // 10 is in train, 11 in val
	items[21].Own = []any{items[20].Own[0], 0.25, "mole"}
	items[31].Own = []any{nil, items[30].Own[1], "quay"}
	f, _ := made(t, columns, items)
	a, by := found(t, f, true)
	require.Equal(t, map[string][]string{"0010": {"nearly-same"}, "0011": {"nearly-same"}, "0030": {"nearly-same"},
		"0031": {"nearly-same"}}, by, "20 and 21 differ in two columns")
	require.Equal(t, "rows", a.Nearly)
}

// Held against a slow, obvious count, on many small snapshots with much in common.
func TestCheckAgainstAnObviousCount(t *testing.T) {
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(seed, 7))
		var items []dataset.Item
		for n := range 60 {
			it := dataset.Item{Key: fmt.Sprint(n), Split: []string{"train", "val", "test", ""}[random.IntN(4)], Size: 5,
				Target: math.NaN(),
				Digest: chunk.Sum([]byte{byte(random.IntN(50))}),
				Group:  []string{"", "a", "b", "c", "d"}[random.IntN(5)]}
			items = append(items, it)
		}
		f, _ := made(t, nil, items)
		a, by := found(t, f, false)
		leaking := map[string]int64{}
		for i, x := range items {
			var bytes, group, double bool
			for j, y := range items {
				other := x.Split != y.Split && x.Split != "" && y.Split != ""
				bytes = bytes || other && x.Digest == y.Digest
				group = group || other && x.Group == y.Group && x.Group != ""
				double = double || i != j && x.Split == y.Split && x.Digest == y.Digest && y.Key < x.Key
			}
			if bytes || group {
				leaking[x.Split]++
			}
			for mark, want := range map[string]bool{"same-bytes": bytes, "same-group": group, "double": double} {
				if want {
					require.Contains(t, by[x.Key], mark, "%d: %s", seed, x.Key)
				} else {
					require.NotContains(t, by[x.Key], mark, "%d: %s", seed, x.Key)
				}
			}
		}
		for _, s := range a.Splits {
			require.Equal(t, leaking[s.Name], s.Leaking, seed)
		}
	}
}

// Values that can be had in closed form, and Fisher's own example.
func TestAlike(t *testing.T) {
	pair := [2]string{"train", "val"}
	got := SharesAlike(pair, []int64{30, 20, 50}, []int64{20, 30, 50})
	require.Equal(t, "chi-square", got.Method)
	require.InDelta(t, math.Exp(-2), got.P, 1e-12, "chi-square 4 on 2 degrees of freedom: exp(-4/2)")
	require.InDelta(t, math.Sqrt(4.0/200), got.Effect, 1e-12)
	got = SharesAlike(pair, []int64{3, 1}, []int64{1, 3})
	require.Equal(t, "exact", got.Method)
	require.InDelta(t, 34.0/70, got.P, 1e-9, "the lady tasting tea, two-sided (Fisher 1935)")
	got = SharesAlike(pair, []int64{4, 0}, []int64{0, 4})
	require.InDelta(t, 2.0/70, got.P, 1e-9)
	got = SharesAlike(pair, []int64{10, 0, 3}, []int64{10, 0, 3})
	require.InDelta(t, 1, got.P, 1e-6)
	require.Zero(t, got.Effect)
	for _, c := range [][2][]int64{{{5, 5}, {0, 0}}, {{9}, {3}}, {nil, nil}, {{0, 7}, {0, 2}}} {
		got := SharesAlike(pair, c[0], c[1])
		require.Equal(t, 1.0, got.P)
		require.False(t, math.IsNaN(got.Effect))
	}
	many, few := make([]int64, 40), make([]int64, 40) // drawn tables agree with chi-square where that holds nearly
	for i := range many {
		many[i], few[i] = int64(80+i%7), 4
	}
	got = SharesAlike(pair, many, few)
	require.Equal(t, "simulated", got.Method)
	require.Greater(t, got.P, 0.9)
	few[0], few[1] = 60, 0
	require.Less(t, SharesAlike(pair, many, few).P, 0.001)

	var a, b []float64
	for i := range 200 {
		a, b = append(a, float64(i)), append(b, float64(i)+0.5)
	}
	got = NumbersAlike(pair, a, b)
	require.InDelta(t, 0.005, got.Effect, 1e-12)
	require.InDelta(t, 1, got.P, 1e-9)
	for i := range b {
		b[i] += 40
	}
	got = NumbersAlike(pair, a, b)
	require.InDelta(t, 0.205, got.Effect, 1e-12)
	require.InDelta(t, 0.00044, got.P, 0.0001)
}

// How often honest splits are called different: about as often as the level says.
func TestAlikeIsHonest(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	for _, size := range []int{12, 60, 400} {
		hits := 0
		const rounds = 400
		for range rounds {
			a, b := make([]int64, 4), make([]int64, 4)
			for range size {
				a[random.IntN(4)]++
				b[random.IntN(4)]++
			}
			if SharesAlike([2]string{}, a, b).P < 0.05 {
				hits++
			}
		}
		require.Less(t, float64(hits)/rounds, 0.09, size)
	}
}

func TestDiffer(t *testing.T) {
	var before, after []dataset.Item
	for n := range 300 {
		before = append(before, clip(n))
		it := clip(n)
		switch n {
		case 5:
			continue // gone
		case 6:
			it.Labels = []string{"dredger"}
		case 7:
			it.Digest[3]++
		case 8, 9:
			it.Split = "val"
		case 10:
			it.Group = "other"
		case 11:
			it.Own[1] = 99.0
		case 12:
			it.Split, it.Labels = "test", nil
		}
		after = append(after, it)
	}
	after = append(after, clip(1000), clip(1001))
	a, _ := made(t, harbourColumns, before)
	b, _ := made(t, harbourColumns, after)
	var keys []string
	d, err := Differ(a, b, func(x Differing) bool { keys = append(keys, x.Key); return true })
	require.NoError(t, err)
	require.Equal(t, map[dataset.Change]int64{dataset.Gone: 1, dataset.Added: 2, dataset.Relabelled: 2,
		dataset.Changed: 1, dataset.Moved: 3, dataset.Regrouped: 1,
		dataset.Edited: 1}, d.Counts)
	require.EqualValues(t, 292, d.Same)
	require.IsIncreasing(t, keys)
	require.Equal(t, []dataset.ByName{{Name: "ferry → none", Items: 1}, {Name: "tug → dredger", Items: 1}},
		d.ByLabel[dataset.Relabelled])
	require.Equal(t, []dataset.ByName{{Name: "train → val", Items: 2}, {Name: "train → test", Items: 1}},
		d.BySplit[dataset.Moved])
	require.Equal(t, []string{clip(1000).Key, clip(1001).Key}, d.Examples[dataset.Added])
	n := 0
	_, err = Differ(a, b, func(Differing) bool { n++; return n < 3 })
	require.NoError(t, err)
	require.Equal(t, 3, n)
	same, err := Differ(a, a, nil)
	require.NoError(t, err)
	require.Empty(t, same.Counts)
	require.EqualValues(t, 300, same.Same)
	none, _ := made(t, nil, nil)
	d, err = Differ(none, b, nil)
	require.NoError(t, err)
	require.Equal(t, map[dataset.Change]int64{dataset.Added: 301}, d.Counts)
	require.Equal(t, map[string]string{"berthed": "added", "depth": "added", "station": "added"}, d.Columns)
}

func BenchmarkCheck(b *testing.B) {
	items := make([]dataset.Item, 200_000)
	for n := range items {
		items[n] = clip(n)
	}
	f, _ := made(b, harbourColumns, items)
	b.ReportAllocs()
	for b.Loop() {
		Check(f, false)
	}
}

func TestConditions(t *testing.T) {
	columns := append([]dataset.OwnColumn{{Name: "water depth", Kind: dataset.Number}}, harbourColumns...)
	it := clip(37) // voyage 3: val, a tug
	it.Own = append([]any{4.5}, it.Own...)
	it.Labels = []string{"ferry", "tug"}
	for text, want := range map[string]bool{
		`split == "val"`: true, `split != "val"`: false, `"tug" in labels && label == "ferry + tug"`: true,
		`"same-group" in found`: true, `"double" in found`: false, `depth == 37 && berthed == false`: true,
		`column["water depth"] > 4`: true, `column["water depth"] > 5`: false, `text("QUAY")`: true,
		`text("mole")`: false,
		`key.contains("voyage00003") && size >= 1000`: true, `target > 0`: false, `!(target > 0)`: true, `kept`: false,
		`digest == "` + it.Digest.String() + `"`: true, `group.startsWith("voyage")`: true,
	} {
		c, err := ParseCondition(text, columns, time.Now())
		require.NoError(t, err, text)
		require.Equal(t, want, c.Holds(&it, SameGroup), text)
		require.Equal(t, strings.Contains(text, "found"), c.Found)
	}
	for text, want := range map[string]string{
		`weather == "fog"`: "the fields of an item are key, digest", `hyper.lr > 1`: "only hyper has names below it",
		`best("loss") > 1`: "there is no function best()", `column["none"] > 1`: `there is no column "none"`,
		`depth`: "a condition is wanted", `depth == "deep"`: "cannot be compared",
	} {
		_, err := ParseCondition(text, columns, time.Now())
		require.ErrorContains(t, err, want, text)
	}
	require.Equal(t, []Found{0, SameBytes, NoSplit | Empty},
		DecodeMarks(EncodeMarks([]Found{0, SameBytes, NoSplit | Empty})))
}

// Expected largest of k normal draws: 0.5642 (2), 1.5388 (10), 2.5076 (100), to the two digits that Blom's gives.
func TestOptimism(t *testing.T) {
	for k, want := range map[int]float64{1: 0, 2: 0.5642, 10: 1.5388, 100: 2.5076} {
		require.InDelta(t, want*0.5/10, Optimism(0.5, 100, k), 0.03*0.05, k)
	}
	require.Zero(t, Optimism(1, 100, 50))
	for _, odd := range []float64{math.NaN(), -0.1, 1.5, math.Inf(1)} {
		require.True(t, math.IsNaN(Optimism(odd, 100, 3)))
	}
	require.True(t, math.IsNaN(Optimism(0.5, 0, 3)))
}
