package datasets

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/dataset"
	"kembrel/store"
)

func TestTrustInWords(t *testing.T) {
	splits := func(leaking int64) []dataset.SplitCount {
		return []dataset.SplitCount{{Name: "train", Items: 800}, {Name: "val", Items: 200, Leaking: leaking}}
	}
	group := dataset.Crossing{Kind: "same-group", Splits: [2]string{"train", "val"}, Shared: 1, Items: [2]int64{9, 3}}
	rows := dataset.Crossing{Kind: "same-bytes", Splits: [2]string{"train", "val"}, Shared: 12, Items: [2]int64{12, 14}}
	for _, c := range []struct {
		found dataset.Findings
		rows  bool
		want  string
	}{
		{dataset.Findings{}, false, "No item is in a split, so nothing here is held out."},
		{dataset.Findings{Splits: splits(0)[:1]}, false,
			"All items are in one split, train, so nothing here is held out."},
		{dataset.Findings{Splits: splits(0), Grouped: true}, false,
			"Yes: no item is in two splits (by their bytes), and no group is."},
		{dataset.Findings{Splits: splits(0)}, true,
			"As far as can be seen: no item is in two splits (as whole rows). " +
				"Items have no groups, so whether what belongs together was torn apart is not known."},
		{dataset.Findings{Splits: splits(3), Grouped: true, Crossings: []dataset.Crossing{group}}, false,
			"No. val: 3 of its 200 items (1.5 %) are not new to a model that was trained on the others. " +
				"1 group is in both train and val."},
		{dataset.Findings{Splits: splits(14), Crossings: []dataset.Crossing{rows}}, true,
			"No. val: 14 of its 200 items (7.0 %) are not new to a model that was trained on the others. " +
				"12 rows are in both train and val."},
	} {
		require.Equal(t, c.want, sayTrust(&c.found, c.rows))
	}
	told := dataset.Findings{Items: 9, Unknown: 9, Grouped: true, Splits: []dataset.SplitCount{{Name: "train"},
		{Name: "val"}}}
	require.Equal(t, "Yes: no item is in two splits (by their keys; their bytes are not known), and no group is.",
		sayTrust(&told, false))
	for n, want := range map[int64]string{1: "1 item was handed over for both train and val",
		1200: "1,200 items were handed over for both train and val"} {
		require.Equal(t, want, sayCrossing(dataset.Crossing{Kind: "same-item", Splits: [2]string{"train", "val"},
			Shared: n}, false))
	}
	require.Contains(t, sayClean(&dataset.Findings{}), "Yes: none is empty")
	require.Contains(t, sayClean(&dataset.Findings{Items: 9, Unknown: 2}), "Of 2 items the bytes are not known")
	require.Equal(t, "Not all: 1 item without bytes; 1,200 items whose bytes stand under two labels.",
		sayClean(&dataset.Findings{Tallies: []dataset.Tally{{Kind: "empty", Items: 1},
			{Kind: "two-labels", Items: 1200}}}))
}

func TestAlikeInWords(t *testing.T) {
	found := &dataset.Findings{Splits: make([]dataset.SplitCount, 3), Alike: []dataset.Alike{
		{Splits: [2]string{"train", "val"}, P: 0.4, Effect: 0.02},
		{Splits: [2]string{"train", "test"}, P: 1e-9, Effect: 0.31, Most: "tug", Shares: []float64{0.2, 0.5}}}}
	require.Equal(t, "Train and val are alike in their labels (p 0.4, effect 0.02); train and test differ in their labels "+
		"more than by chance (p less than one in a million, effect 0.31): most in tug, 20 % and 50 %.", sayAlike(found))
	found.Alike[1].Effect = 0.03
	require.Contains(t, sayAlike(found), "more than by chance, but little")
	require.Equal(t, "There is one split.", sayAlike(&dataset.Findings{}))
}

// A run with two curves is one model, also where it is not to be seen; the best is by the measure's direction.
func TestTheLedger(t *testing.T) {
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	looks := []store.TestLook{
		{Project: "vessels", Run: 1, Number: 1, Curve: "accuracy.test", Looks: 10, Lowest: 0.5,
			Highest: 0.8, Latest: at},
		{Project: "vessels", Run: 1, Number: 1, Curve: "loss.test", Looks: 10, Lowest: 0.4, Highest: 2, Latest: at},
		{Run: 2, Number: 7, Curve: "accuracy.test", Looks: 5, Lowest: 0.6, Highest: 0.9, Latest: at},
		{Run: 2, Number: 7, Curve: "loss.test", Looks: 5, Lowest: 0.6, Highest: 3, Latest: at},
	}
	got := ledgerOf(looks, 400)
	require.Equal(t, 2, got.Models)
	require.EqualValues(t, 30, got.Looks)
	require.Equal(t, api.Float(0.9), got.Curves[0].Best)
	require.Empty(t, got.Curves[0].BestRun, "it is not to be seen")
	require.Equal(t, api.Float(0.4), got.Curves[1].Best)
	require.Equal(t, "vessels/1", got.Curves[1].BestRun)
	require.NotNil(t, got.Curves[0].Optimism)
	require.Nil(t, got.Curves[1].Optimism, "a loss is no share of examples")
	require.Nil(t, ledgerOf(nil, 400))
	require.Nil(t, ledgerOf(looks, 0).Curves[0].Optimism, "of how many examples is not known")
}

func TestDifferencesInWords(t *testing.T) {
	require.Equal(t, "Nothing differs from hydrophone#1.", sayDifference("hydrophone#1", &dataset.ItemChanges{}))
	require.Equal(t, "Against hydrophone#1: 1,000 added (most tug, 600), 3 moved (most train → val, 2), column depth gone; 70 as before.",
		sayDifference("hydrophone#1", &dataset.ItemChanges{Same: 70,
			Counts:  map[dataset.Change]int64{dataset.Added: 1000, dataset.Moved: 3},
			ByLabel: map[dataset.Change][]dataset.ByName{dataset.Added: {{Name: "tug", Items: 600}}},
			BySplit: map[dataset.Change][]dataset.ByName{dataset.Moved: {{Name: "train → val", Items: 2}}},
			Columns: map[string]string{"depth": "gone"}}))
}
