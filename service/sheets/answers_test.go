package sheets

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/sheet"
	"kembrel/store"
)

// Every kind of alarm is said in words, and leads to its examples where they can be listed.
func TestAlarmsAreSaid(t *testing.T) {
	a, b := 0.914, 0.861
	classes := []string{"tug", "ferry"}
	for kind, want := range map[assess.AlarmKind][2]string{
		assess.FigureDiffers: {"accuracy.val says 0.914, these answers give 0.861: one of the two is computed wrongly.",
			"right == false"},
		assess.Swapped: {"tug and ferry are answered for each other (31 of 160 examples): their labels look swapped.",
			`true == "tug" && predicted == "ferry" || true == "ferry" && predicted == "tug"`},
		assess.Permuted: {"The answers fit other labels better: 31 of 160 examples if 1 class change places. The labels look permuted.",
			`true == "tug" && predicted == "ferry"`},
		assess.Shuffled: {"accuracy.val is 0.914, but these answers are no better than chance (0.861): the labels look shuffled.",
			"right == false"},
		assess.OneAnswer:     {"tug is the answer to nearly everything: 31 of 160 examples.", `predicted == "tug" && right == false`},
		assess.NeverAnswered: {"tug is never answered, and there are 31 examples of it.", `true == "tug"`},
		assess.AlwaysWrong:   {"tug is always answered wrongly, and there are 31 examples of it.", `true == "tug"`},
		assess.InTraining:    {"31 of the 160 items of hydrophone#1:val are in the training split too", ""},
		assess.OddScores:     {"1 example has a score that is not a number, 2 examples have probabilities that do not sum to 1.", ""},
		assess.Doubled:       {"31 of 160 examples show the same as another.", ""},
		assess.Blank:         {"31 of 160 examples show nothing: one colour, silence or no text.", ""},
	} {
		alarm := assess.Alarm{Kind: kind, Class: "tug", Other: "ferry", Curve: "accuracy.val", Recorded: &a, Given: &b,
			Count: 31, Of: 160, Pairs: [][2]int{{0, 1}}, Data: "hydrophone#1:val",
			Odd: &assess.OddCounts{NotNumber: 1, Unsummed: 2}}
		require.Contains(t, sayAlarm(alarm), want[0], kind)
		require.Equal(t, want[1], whereOf(sheet.Classes, alarm, classes), kind)
	}
	require.Len(t, assess.AlarmKinds, 11)
	lost := assess.Alarm{Kind: assess.NeverAnswered, Class: "hull", Count: 1200, Pixels: true}
	require.Equal(t, "hull is never answered, and there are 1,200 pixels of it.", sayAlarm(lost))
	require.Equal(t, `"hull" in true`, whereOf(sheet.Masks, lost, nil))
}

// Silence is said of what was looked at only, and of no kind that is raised.
func TestQuiet(t *testing.T) {
	s := &api.Sheet{Task: sheet.Classes, Labelled: 10, Held: []string{"accuracy.val"}}
	require.Contains(t, sayQuiet(s), "Quiet: accuracy.val is what the answers give, no class is never answered")
	s.Alarms = []api.Alarm{{Alarm: assess.Alarm{Kind: assess.FigureDiffers, Curve: "accuracy.val"}},
		{Alarm: assess.Alarm{Kind: assess.NeverAnswered}}}
	require.NotContains(t, sayQuiet(s), "accuracy.val")
	require.NotContains(t, sayQuiet(s), "never answered")
	require.Equal(t, "Quiet: no item is known to be in training.", sayQuiet(&api.Sheet{Task: sheet.Number, Labelled: 10}))
	require.Equal(t, "Its run's curves and data are still to be held against it, as they come.",
		sayQuiet(&api.Sheet{Task: sheet.Number, Labelled: 10, Pending: true}))
	require.Empty(t, sayQuiet(&api.Sheet{Task: sheet.Classes}), "of answers without labels nothing is known")
}

// The sheets that are opened to follow an example are bounded by their bytes, and reach from the first to the last.
func TestSpread(t *testing.T) {
	list := make([]store.Sheet, 200)
	for i := range list {
		list[i].Number = i
	}
	for each, want := range map[int64]int{1: mostFollowed, 1 << 40: leastFollowed, followedBytes / 10: 10} {
		got := spread(list, each)
		require.Len(t, got, want)
		require.Equal(t, []int{0, 199}, []int{got[0].Number, got[len(got)-1].Number})
	}
	require.Len(t, spread(list[:3], 1<<40), 3, "fewer are all opened")
}
