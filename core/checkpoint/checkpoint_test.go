package checkpoint

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFitness(t *testing.T) {
	for want, parts := range map[string][]string{
		"resume":       {"weights", "random", "optimiser"},
		"use":          {"architecture", "weights"},
		"weights only": {"weights", "preprocess"},
		"nothing":      {"optimiser", "architecture"},
	} {
		require.Equal(t, want, Fitness(parts, UsualNeeds))
	}
	require.Equal(t, "weights only", Fitness([]string{"weights", "optimiser"}, UsualNeeds), "without the random generators' state it goes on otherwise")
	require.Equal(t, "resume", Fitness([]string{"weights", "optimiser"}, []string{"weights", "optimiser"}), "what the program declares counts")
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

func TestPicks(t *testing.T) {
	stands := []Stand{{Step: 500, Epoch: 12}, {Step: 480, Epoch: 12}, {Step: 200, Epoch: 5}}
	require.Equal(t, 0, AtEpoch(stands, 12), "the latest of the epoch")
	require.Equal(t, 2, AtEpoch(stands, 5))
	require.Equal(t, -1, AtEpoch(stands, 6))
}

var badPaths = []string{"", ".", "..", "../x", "a/../../x", "/etc/passwd", "a//b", "./a", "a/.", "a/", `a\b`, "C:x", "a\x00b", "a\nb", "\xff",
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
