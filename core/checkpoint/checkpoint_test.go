package checkpoint

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFitness(t *testing.T) {
	for want, parts := range map[string][]string{
		"resume":       {"weights", "optimiser"},
		"use":          {"architecture", "weights"},
		"weights only": {"weights", "preprocess"},
		"nothing":      {"optimiser", "architecture"},
	} {
		require.Equal(t, want, Fitness(parts))
	}
}

func TestPicks(t *testing.T) {
	stands := []Stand{{Step: 500, Epoch: 12}, {Step: 480, Epoch: 12}, {Step: 200, Epoch: 5}}
	require.Equal(t, 0, AtEpoch(stands, 12), "the latest of the epoch")
	require.Equal(t, 2, AtEpoch(stands, 5))
	require.Equal(t, -1, AtEpoch(stands, 6))
	require.Equal(t, 1, AtStep(stands, 480))
	require.Equal(t, 1, NearestBefore(stands, 499))
	require.Equal(t, 2, NearestBefore(stands, 200))
	require.Equal(t, -1, NearestBefore(stands, 199))
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
