package checkpoint

import (
	"math"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestUsableFor(t *testing.T) {
	for want, parts := range map[string][]string{
		"resume":       {"weights", "random", "optimiser"},
		"use":          {"architecture", "weights"},
		"weights only": {"weights", "preprocess"},
		"nothing":      {"optimiser", "architecture"},
	} {
		require.Equal(t, want, UsableFor(parts, UsualNeeds))
	}
	require.Equal(t, "weights only", UsableFor([]string{"weights", "optimiser"}, UsualNeeds),
		"without the random generators' state it goes on otherwise")
	require.Equal(t, "resume", UsableFor([]string{"weights", "optimiser"}, []string{"weights", "optimiser"}),
		"what the program declares counts")
	require.Equal(t, []string{"position"}, Lacks([]string{"weights", "optimiser"}, []string{"weights", "position"}))
}

func TestWarnings(t *testing.T) {
	require.Empty(t, Warnings([]string{"weights", "optimiser", "random", "preprocess"}, UsualNeeds, true))
	got := Warnings([]string{"weights"}, UsualNeeds, true)
	require.Len(t, got, 2)
	require.Contains(t, got[0], "lack optimiser, random")
	require.Contains(t, got[1], "preprocess")
	require.Len(t, Warnings([]string{"weights"}, UsualNeeds, false), 1)
	require.True(t, Classifies("accuracy.val"))
	require.False(t, Classifies("loss.val"))
}

// Every checkpoint of a run that was resumed from the middle answers to its own address, and to no other's.
func TestAddresses(t *testing.T) {
	stands := []Stand{ // latest first; leg 2 began behind step 30, leg 3 behind step 50
		{Leg: 3, Step: 60, Epoch: 6, Last: true}, {Leg: 2, Step: 60, Epoch: 6, Replaced: true},
		{Leg: 1, Step: 60, Epoch: 6, Replaced: true}, {Leg: 2, Step: 55, Epoch: 5, Replaced: true},
		{Leg: 2, Step: 50, Epoch: 5, Best: true}, {Leg: 2, Step: 48, Epoch: 5}, {Leg: 1, Step: 30, Epoch: 3},
		{Leg: 1, Step: 7, Epoch: math.NaN()}, {Leg: 1, Step: 1, Epoch: 0.5},
	}
	var texts []string
	for i, at := range Addresses(stands) {
		texts = append(texts, at.String())
		again, err := ParseAt(at.String())
		require.NoError(t, err)
		require.Equal(t, at, again)
		require.Equal(t, i, Find(stands, at), at)
	}
	require.Equal(t, []string{"e6", "s60.leg2", "s60.leg1", "s55.leg2", "e5", "s48", "e3", "s7", "e0.5"}, texts)
	for text, want := range map[string]int{"s60": 0, "s60.leg3": 0, "s55": -1, "s30.leg1": 6, "s30.leg2": -1, "best": 4,
		"last": 0, "e4": -1} {
		at, err := ParseAt(text)
		require.NoError(t, err)
		require.Equal(t, want, Find(stands, at), text)
	}
	for _, bad := range []string{"", "s", "s1.leg", "s1.leg0", "s1.leg01", "s1.leg-1", "s1.leg2x", "s+1", "s-1",
		"e-1", "eNaN", "x"} {
		_, err := ParseAt(bad)
		require.Error(t, err, bad)
	}
}

var badPaths = []string{"", ".", "..", "../x", "a/../../x", "/etc/passwd", "a//b", "./a", "a/.", "a/", `a\b`, "C:x",
	"a\x00b", "a\nb", "\xff",
	strings.Repeat("a", 256), strings.Repeat("a/", 260) + "a"}

func TestCheckPath(t *testing.T) {
	for _, good := range []string{"weights.safetensors", "a/b/c.bin", "with space", "..a", "a..b", "ä/ö"} {
		require.NoError(t, CheckPath(good), good)
	}
	for _, bad := range badPaths {
		require.Error(t, CheckPath(bad), "%q", bad)
	}
}

func FuzzCheckPath(f *testing.F) {
	for _, p := range append(badPaths, "a/b") {
		f.Add(p)
	}
	f.Fuzz(func(t *testing.T, p string) {
		if CheckPath(p) != nil {
			return
		}
		joined := path.Join("/into", p)
		if !strings.HasPrefix(joined, "/into/") || joined != "/into/"+p {
			t.Fatalf("%q leaves its folder as %q", p, joined)
		}
	})
}

func TestCheckPart(t *testing.T) {
	require.NoError(t, CheckPart("weights"))
	require.NoError(t, CheckPart("my-part-2"))
	for _, bad := range []string{"", "Weights", "a/b", "a b", "ä", strings.Repeat("a", 61)} {
		require.Error(t, CheckPart(bad), bad)
	}
}
