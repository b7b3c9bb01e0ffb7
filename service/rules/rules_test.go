package rules

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/verdict"
)

// A rule that cannot be read is none: nothing is deleted, and nothing stopped, by what nobody understands.
func TestWhatCannotBeReadIsNoRule(t *testing.T) {
	for _, text := range []string{"", "null", "{}", `{"best":-1}`, `{"best":"many"}`, "["} {
		require.Nil(t, ParseKeepRule(json.RawMessage(text)), text)
	}
	for _, text := range []string{"", "{}", "[", `{"patience":"long"}`} {
		require.Nil(t, ParseRule(json.RawMessage(text)), text)
	}
}

func TestWhoseRuleHolds(t *testing.T) {
	ofProject, ofRun := json.RawMessage(`{"best":3,"grace":7}`), json.RawMessage(`{"last":1,"grace":7}`)
	for _, c := range []struct {
		ofProject, ofRun json.RawMessage
		from, said       string
	}{{nil, nil, "none", "all checkpoints stay"}, {ofProject, nil, "project", "keeps the best 3"},
		{ofProject, ofRun, "run", "keeps the last"}, {nil, ofRun, "run", "keeps the last"},
		{ofProject, json.RawMessage(`{}`), "run", "all checkpoints stay"}} {
		got := ToKeepState(c.ofProject, c.ofRun)
		require.Equal(t, c.from, got.From)
		require.Contains(t, got.Said, c.said)
	}
	rule := ParseRule(json.RawMessage(`{"patience":5,"objective":"accuracy.val higher"}`))
	require.Equal(t, verdict.Objective{Curve: "accuracy.val", Direction: verdict.Higher}, rule.Objective,
		"as rules were written before objectives had two fields")
	for own, from := range map[bool]string{true: "run", false: "project"} {
		got := ToStopState(rule, own)
		require.Equal(t, from, got.From)
		require.True(t, math.IsNaN(float64(got.Left)))
		require.Equal(t, "no improvement of accuracy.val in 5 epochs", got.Said)
	}
	require.Equal(t, "none", ToStopState(nil, false).From)
	require.Equal(t, "run", ToStopState(nil, true).From, "none of its own accord")
}
