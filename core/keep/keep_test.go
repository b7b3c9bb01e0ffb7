package keep

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// run is ten epochs whose loss falls to epoch 6 and rises again, saved an epoch a day.
func run() []Checkpoint {
	var out []Checkpoint
	for e := 1; e <= 10; e++ {
		out = append(out, Checkpoint{Step: int64(100 * e), Epoch: float64(e), Figure: math.Abs(float64(e) - 6.2),
			Saved: now.Add(time.Duration(e-10) * 24 * time.Hour)})
	}
	return out
}

// kept lists the epochs that stay with their reasons.
func kept(rule Rule, r Run, list []Checkpoint) string {
	var out []string
	for i, why := range Decide(rule, r, list, now) {
		if len(why) > 0 {
			out = append(out, fmt.Sprintf("e%g: %s", list[i].Epoch, strings.Join(why, " + ")))
		}
	}
	return strings.Join(out, "; ")
}

func TestEachPartKeeps(t *testing.T) {
	over := Run{Over: true, Lower: true}
	for want, rule := range map[string]Rule{
		"e5: 3rd best; e6: the best; e7: 2nd best":                                        {Best: 3},
		"e9: 2nd last; e10: the last":                                                     {Last: 2},
		"e1: one of every 4 epochs; e4: one of every 4 epochs; e8: one of every 4 epochs": {Every: 4},
		"e9: of the last 1.5 days; e10: of the last 1.5 days":                             {Days: 1.5},
		"e6: the best; e10: the last":                                                     {Best: 1, Last: 1},
		"":                                                                                {Where: "false"},
	} {
		require.Equal(t, want, kept(rule, over, run()))
	}
	equal := run()
	equal[8].Figure = equal[0].Figure
	require.Equal(t, "e1: 2nd best; e9: the best", kept(Rule{Best: 2}, Run{Over: true}, equal),
		"the highest, and of equal ones the newer")
}

func TestWhatStaysWhateverTheRuleSays(t *testing.T) {
	list := run()
	list[1].Pinned = true
	list[2].Children = []string{"vessels/9", "vessels/12"}
	list[3].Matches = true
	require.Equal(t, "e2: pinned; e3: vessels/9, vessels/12 began from it; e6: the best; e10: the run may have to go on from it", kept(Rule{Best: 1}, Run{Lower: true}, list))
	require.Equal(t, "e2: pinned; e3: vessels/9, vessels/12 began from it; e4: epoch == 4; e10: the last",
		kept(Rule{Last: 1, Where: "epoch == 4"}, Run{}, list))
}

// What a later leg replaced is neither the best nor the last, and goes unless something else keeps it.
func TestReplaced(t *testing.T) {
	list := run()
	list[5].Replaced, list[9].Replaced = true, true
	list[9].Pinned = true
	require.Equal(t, "e7: the best; e9: the last; e10: pinned",
		kept(Rule{Best: 1, Last: 1}, Run{Over: true, Lower: true}, list))
}

// Without any figure of the objective nothing tells the best; the newest stand in, so that a rule never empties a run.
func TestWithoutFigures(t *testing.T) {
	list := run()
	for i := range list {
		list[i].Figure = math.NaN()
	}
	require.Equal(t, "e9: 2nd last; e10: the last", kept(Rule{Best: 2}, Run{Over: true, Lower: true}, list))
	list[3].Figure = 0.5
	require.Equal(t, "e4: the best", kept(Rule{Best: 2}, Run{Over: true, Lower: true}, list),
		"one has a figure: it is the best of those that do")
	require.Empty(t, Decide(Rule{Best: 1}, Run{}, nil, now))
}

func TestRule(t *testing.T) {
	for _, bad := range []Rule{{}, {Grace: 3}, {Best: -1}, {Every: math.NaN()}, {Days: math.Inf(1)}, {Where: "  "}} {
		require.Error(t, bad.Check(), "%+v", bad)
	}
	r := Rule{Best: 3, Last: 1, Every: 10, Days: 1, Where: `at("accuracy.val") > 0.9`}
	require.NoError(t, r.Check())
	require.Equal(t, `keeps the best 3, the last, one of every 10 epochs, those of the last day, those with at("accuracy.val") > 0.9`, r.Say())
	require.Equal(t, 7*24*time.Hour, r.GracePeriod())
	require.Equal(t, 36*time.Hour, Rule{Grace: 1.5}.GracePeriod())
	require.Equal(t, "1st 2nd 3rd 4th 11th 12th 21st 112th",
		strings.Join([]string{ordinal(1), ordinal(2), ordinal(3), ordinal(4), ordinal(11), ordinal(12), ordinal(21),
			ordinal(112)}, " "))
}
