// Package test holds what is tested about the project as a whole; the stories are below it.
package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// mayImport says what of ours each part may import; a part may always import itself.
var mayImport = map[string][]string{
	"core":     {},
	"api":      {"core"},
	"store":    {"core"},
	"service":  {"core", "api", "store"},
	"web":      {"core", "api", "service"},
	"client":   {"core", "api"},
	"recorder": {"core", "api", "client"},
	"cli":      {"core", "api", "client", "recorder"},
	"console":  {},
	"bindings": {},
	"demo":     {"core", "bindings"},
	"cmd":      {"api", "bindings", "cli", "client", "console", "service", "store", "web"},
	"test":     {"api", "client", "core", "service", "store", "web", "bindings"},
	"bench":    {"api", "bindings", "client", "console", "core", "recorder", "service", "store", "web", "test"},
}

func TestImportsPointDown(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "kembrel/...").Output()
	require.NoError(t, err)
	seen := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, d.Decode(&p))
		part := partOf(p.ImportPath)
		allowed, known := mayImport[part]
		require.True(t, known, "%s is in no part that architecture.md names", p.ImportPath)
		seen++
		for _, i := range p.Imports {
			if !strings.HasPrefix(i, "kembrel/") || partOf(i) == part {
				continue
			}
			require.Contains(t, allowed, partOf(i), "%s imports %s", p.ImportPath, i)
		}
		if part == "core" {
			for _, i := range p.Imports {
				require.NotContains(t, []string{"net/http", "os", "database/sql", "net"}, i, "%s is to be pure", p.ImportPath)
			}
		}
	}
	require.Greater(t, seen, 20)
}

func partOf(path string) string {
	return strings.SplitN(strings.TrimPrefix(path, "kembrel/"), "/", 2)[0]
}

// The stories end processes through one function, which refuses the numbers that mean groups of them: one missed process once ended the whole suite.
func TestStoriesEndOnlyWhatTheyFound(t *testing.T) {
	files, err := filepath.Glob("stories/*_test.go")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, line := range strings.Split(string(text), "\n") {
			if strings.Contains(line, "syscall.Kill(") && !strings.Contains(line, "-cmd.Process.Pid") {
				require.Equal(t, "stories/processes_test.go", f, line)
			}
		}
	}
}
