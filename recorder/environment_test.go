package recorder

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

func TestDifferences(t *testing.T) {
	had := api.Recipe{Commit: "0123456789abcdef", Changes: "a\nb\n", Program: "b3:1", Language: "python 3.11",
		Host: "hydra-1", Packages: map[string]string{"numpy": "1.24", "old": "1"}}
	require.Empty(t, Differences(had, had))
	now := had
	now.Commit, now.Changes, now.Program, now.Host, now.Packages = "fedcba9876543210", "", "b3:2", "hydra-2",
		map[string]string{"numpy": "1.26", "new": "2"}
	require.Equal(t, []string{"commit: 0123456789ab, now fedcba987654",
		"uncommitted changes: a patch of 2 lines, now none", "program: its file is another one now",
		"host: hydra-1, now hydra-2",
		"package new: none, now 2", "package numpy: 1.24, now 1.26", "package old: 1, now none"}, Differences(had, now))
	require.Empty(t, Differences(api.Recipe{Language: "go go1.26"}, api.Recipe{}), "which it says only when it runs")
	require.Empty(t, Differences(api.Recipe{}, now), "what was not recorded differs in nothing")
}

func TestCheckOutRefuses(t *testing.T) {
	for want, r := range map[string]api.Recipe{"under no version control": {}, "is none": {Commit: "--upload-pack=x"},
		"more than is recorded": {Commit: "abc123", ChangesSize: 5 << 20}} {
		_, err := CheckOut(t.Context(), r, ".", t.TempDir()+"/x")
		require.ErrorContains(t, err, want)
	}
	nowhere := t.TempDir()
	t.Setenv("GIT_CEILING_DIRECTORIES", filepath.Dir(nowhere))
	_, err := CheckOut(t.Context(), api.Recipe{Commit: "0123456789abcdef"}, nowhere, t.TempDir()+"/x")
	require.ErrorContains(t, err, nowhere+" is under no version control: name the repository that holds commit 0123456789ab (--repository FOLDER)")
	require.NoError(t, exec.Command("git", "init", "-q", nowhere).Run())
	_, err = CheckOut(t.Context(), api.Recipe{Commit: "0123456789abcdef"}, nowhere, t.TempDir()+"/x")
	require.ErrorContains(t, err, "has no commit 0123456789ab: fetch it there")
}

func TestSecretsAreKnownByTheirNames(t *testing.T) {
	for _, name := range []string{"HARBOUR_TOKEN", "aws_secret", "DB_PASSWORD", "SSH_AUTH_SOCK", "API_KEY"} {
		require.True(t, Secret(name), name)
	}
	for _, name := range append([]string{"SEA_STATE", "HOME"}, usualVariables...) {
		require.False(t, Secret(name), name)
	}
}
