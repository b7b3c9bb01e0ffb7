package catalogue

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAddresses(t *testing.T) {
	for text, want := range map[string]Address{"vessel-classifier": {Model: "vessel-classifier"},
		"a#3": {Model: "a", Edition: 3}, "vessel-classifier/in-use": {Model: "vessel-classifier", Standing: "in-use"}} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got)
		require.Equal(t, text, got.String())
		require.Equal(t, text != "vessel-classifier", Names(text))
	}
	for _, text := range []string{"", "#3", "A#1", "a#0", "a#x", "a#99999999999", "a/", "a/17", "a/In use", "a/in-use#3",
		"vessels/17@best", "../x"} {
		_, err := Parse(text)
		require.Error(t, err, text)
		require.False(t, Names(text), text)
	}
}

// A standing takes an edition with sign-offs of others who may give them, on the checks as they are.
func TestLacks(t *testing.T) {
	rule := Rule{Name: "in-use", Approvers: 2, Checks: []string{"every class", "verified"}}
	passed := []Outcome{{"verified", true}, {"every class", true}, {"another", false}}
	ines, ruth := Sign{"Ines", 9, true}, Sign{"Ruth", 9, true}
	for name, c := range map[string]struct {
		signs  []Sign
		checks []Outcome
		want   []Lack
	}{
		"all":              {[]Sign{ines, ruth}, passed, nil},
		"one":              {[]Sign{ines}, passed, []Lack{{Kind: LacksSigns, Have: 1, Need: 2}}},
		"the same twice":   {[]Sign{ines, ines}, passed, []Lack{{Kind: LacksSigns, Have: 1, Need: 2}}},
		"whoever asks":     {[]Sign{ines, {"Teo", 9, true}}, passed, []Lack{{Kind: LacksSigns, Have: 1, Need: 2}}},
		"one who is gone":  {[]Sign{ines, {"Ruth", 9, false}}, passed, []Lack{{Kind: LacksSigns, Have: 1, Need: 2}}},
		"other checks":     {[]Sign{ines, {"Ruth", 8, true}}, passed, []Lack{{Kind: LacksSigns, Have: 1, Need: 2}}},
		"nothing reported": {[]Sign{ines, ruth}, nil, []Lack{{Kind: LacksCheck, Name: "every class"}, {Kind: LacksCheck, Name: "verified"}}},
		"one failed":       {[]Sign{ines, ruth}, []Outcome{{"verified", false}, {"every class", true}}, []Lack{{Kind: FailedCheck, Name: "verified"}}},
	} {
		require.Equal(t, c.want, Lacks(rule, "Teo", c.signs, c.checks, 9), name)
	}
	require.Empty(t, Lacks(Rule{Name: "fallback"}, "Teo", nil, nil, 0))
}

func TestLeading(t *testing.T) {
	require.Equal(t, "in-use", Leading([]string{"fallback", "in-use"}))
	require.Equal(t, "fallback", Leading([]string{"fallback", "trial"}))
	require.Empty(t, Leading(nil))
}
