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
	for _, text := range []string{"", "#3", "A#1", "a#0", "a#x", "a#99999999999", "a/", "a/17", "a/In use",
		"a/in-use#3",
		"vessels/17@best", "../x"} {
		_, err := Parse(text)
		require.Error(t, err, text)
		require.False(t, Names(text), text)
	}
}

// A standing takes an edition with sign-offs of others who may give them, on the checks as they are.
func TestLacks(t *testing.T) {
	rule := Rule{Name: "in-use", Approvers: 2, Checks: []string{"every class", "verified"}}
	passed := []Outcome{{"verified", "kit", true}, {"every class", "kit", true}, {"another", "kit", false}}
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
		"one failed":       {[]Sign{ines, ruth}, []Outcome{{"verified", "kit", false}, {"every class", "kit", true}}, []Lack{{Kind: FailedCheck, Name: "verified"}}},
	} {
		require.Equal(t, c.want, Lacks(rule, "Teo", c.signs, c.checks, 9), name)
	}
	require.Empty(t, Lacks(Rule{Name: "fallback"}, "Teo", nil, nil, 0))
}

// Nobody's "passed" takes the place of another's "failed", and a check may be one machine's alone.
func TestWhoReportsAChecks(t *testing.T) {
	rule := Rule{Name: "in-use", Checks: []string{"every class"}}
	failed, passed := Outcome{"every class", "buildhall", false}, Outcome{"every class", "Teo", true}
	require.Equal(t, []Lack{{Kind: FailedCheck, Name: "every class"}},
		Lacks(rule, "Teo", nil, []Outcome{failed, passed}, 2))
	require.Empty(t, Lacks(rule, "Teo", nil, []Outcome{passed}, 2))
	rule.Reporters = map[string]string{"every class": "buildhall"}
	require.Equal(t, []Lack{{Kind: LacksCheck, Name: "every class", By: "buildhall"}},
		Lacks(rule, "Teo", nil, []Outcome{passed}, 2))
	require.Empty(t, Lacks(rule, "Teo", nil, []Outcome{{"every class", "buildhall", true}, {"every class", "Teo",
		false}}, 2))
}

func TestLoweredRules(t *testing.T) {
	strict := Rule{Name: "in-use", Approvers: 2, Checks: []string{"a", "b"}, Reporters: map[string]string{"a": "kit"}}
	for name, r := range map[string]Rule{
		"fewer":            {Approvers: 1, Checks: strict.Checks, Reporters: strict.Reporters},
		"a check less":     {Approvers: 3, Checks: []string{"a"}, Reporters: strict.Reporters},
		"anybody reports":  {Approvers: 2, Checks: strict.Checks},
		"another reporter": {Approvers: 2, Checks: strict.Checks, Reporters: map[string]string{"a": "Teo"}},
	} {
		require.True(t, r.Lowers(strict), name)
		both := r.And(strict)
		require.False(t, both.Lowers(strict), name)
		require.False(t, both.Lowers(r) && name != "another reporter", name)
	}
	require.False(t, strict.Lowers(strict))
	require.False(t, Rule{Approvers: 3, Checks: []string{"c", "b", "a"}, Reporters: strict.Reporters}.Lowers(strict))
}

func TestLeading(t *testing.T) {
	require.Equal(t, "in-use", Leading([]string{"fallback", "in-use"}))
	require.Equal(t, "fallback", Leading([]string{"fallback", "trial"}))
	require.Empty(t, Leading(nil))
}
