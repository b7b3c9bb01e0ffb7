// Package test holds what is tested about the project as a whole; the stories are below it.
package test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// mayImport says what of ours each part may import; a part may always import itself.
var mayImport = map[string][]string{
	"core":     {},
	"host":     {},
	"api":      {"core"},
	"store":    {"core", "host"},
	"service":  {"core", "api", "host", "store"},
	"web":      {"core", "api", "service"},
	"client":   {"core", "api", "host"},
	"recorder": {"core", "api", "client", "host"},
	"cli":      {"core", "api", "client", "host", "recorder"},
	"console":  {},
	"bindings": {},
	"demo":     {"core", "bindings"},
	"cmd":      {"api", "bindings", "cli", "client", "console", "host", "service", "store", "web"},
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
				require.NotContains(t, []string{"net/http", "os", "database/sql", "net"}, i,
					"%s is to be pure", p.ImportPath)
			}
		}
	}
	require.Greater(t, seen, 20)
}

// rooms are the layers that are divided by what people do: a slice imports those named here of its own layer, and no
// other.
var rooms = map[string]struct {
	all   []string            // what every slice may stand on
	bases map[string][]string // what a base stands on
	more  map[string][]string // what else a slice may import
}{
	"kembrel/service": {
		all:   []string{"act", "finding", "rules", "work"},
		bases: map[string][]string{"act": {}, "rules": {}, "finding": {"act"}, "work": {"act"}},
		more: map[string][]string{"pages": {"checkpoints", "evaluations", "judging", "runs", "searches", "sheets"},
			"comparing": {"comparing/document"}, "catalogue": {"catalogue/description"}},
	},
	"kembrel/cli":      {all: []string{"term"}, bases: map[string][]string{"term": {}}},
	"kembrel/store/pg": {all: []string{"db"}, bases: map[string][]string{"db": {}}},
}

func TestSlicesDoNotImportEachOther(t *testing.T) {
	for layer, r := range rooms {
		out, err := exec.Command("go", "list", "-json=ImportPath,Imports", layer+"/...").Output()
		require.NoError(t, err)
		seen := 0
		for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
			var p struct {
				ImportPath string
				Imports    []string
			}
			require.NoError(t, d.Decode(&p))
			slice := strings.TrimPrefix(p.ImportPath, layer+"/")
			// the whole, which wires; and rooms within a slice
			if slice == p.ImportPath || strings.Contains(slice, "/") {
				continue
			}
			seen++
			allowed, base := r.bases[slice]
			if !base {
				allowed = append(append([]string(nil), r.all...), r.more[slice]...)
			}
			for _, i := range p.Imports {
				if other := strings.TrimPrefix(i, layer+"/"); other != i {
					require.Contains(t, allowed, other, "%s imports %s", p.ImportPath, i)
				}
			}
		}
		require.Greater(t, seen, 8, layer)
	}
}

// A slice of the service knows rows and errors, not the database: what it needs of that it says in its storage.go.
func TestSlicesSayWhatTheyNeedOfTheStore(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}}",
		"kembrel/service/...").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		name, imports, _ := strings.Cut(line, ": ")
		if name == "kembrel/service" {
			continue
		}
		for _, i := range strings.Fields(imports) {
			if strings.HasPrefix(i, "kembrel/store/pg") {
				require.Equal(t, "kembrel/store/pg/db", i, "%s imports %s", name, i)
			}
		}
	}
}

func partOf(path string) string {
	return strings.SplitN(strings.TrimPrefix(path, "kembrel/"), "/", 2)[0]
}

// The stories end processes through one function, which refuses the numbers that mean groups of them: one missed
// process once ended the whole suite.
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

// consoleRooms says what of the console's other folders each folder may import, beside api/ and shared/.
var consoleRooms = map[string][]string{
	"api": {}, "shared": {}, "chart": {}, "people": {}, "storage": {}, "checkpoints": {"evaluations", "predictions"}, "data": {},
	"runs": {"chart"}, "predictions": {}, "evaluations": {"predictions"}, "files": {}, "lineage": {"chart"},
	"catalogue": {}, "subscriptions": {}, "entering": {},
	"compare": {"chart", "predictions"}, "run": {"chart", "checkpoints", "evaluations", "files", "predictions"},
}

func TestConsoleFoldersDoNotImportEachOther(t *testing.T) {
	imported := regexp.MustCompile(`(?:from|import\()\s*'\.\./([a-z]+)/`)
	entries, err := os.ReadDir("../console/src")
	require.NoError(t, err)
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		folder := filepath.Join("../console/src", e.Name())
		more, known := consoleRooms[e.Name()]
		require.True(t, known, "%s is in no room that is named here", folder)
		files, err := filepath.Glob(filepath.Join(folder, "*.*"))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			for _, m := range imported.FindAllStringSubmatch(string(text), -1) {
				require.Contains(t, append([]string{"api", "shared"}, more...), m[1], "%s imports %s", f, m[1])
			}
		}
	}
}

// A client carries no parser of filters: what the API says of them is plain.
func TestTheAPIKnowsNoParser(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "kembrel/api", "kembrel/client").Output()
	require.NoError(t, err)
	require.NotContains(t, string(out), "kembrel/core/filter")
}

// everywhere is what package syscall has on every system that a command is built for.
var everywhere = regexp.MustCompile(`^(SIG[A-Z]+|Signal|WaitStatus|RawConn|E[A-Z]{3,}|O_NONBLOCK)$`)

// Where systems differ is in host: what it does not hide, the command for Windows would not be built with.
func TestOnlyHostAsksTheSystem(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-f",
		"{{$d := .Dir}}{{if not .Standard}}{{range .GoFiles}}{{$d}}/{{.}}\n{{end}}{{end}}", "kembrel/cmd/kembrel").Output()
	require.NoError(t, err)
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	seen := 0
	for _, path := range strings.Fields(string(out)) {
		within, inside := strings.CutPrefix(path, root+"/")
		// the binding is a module of its own
		if !inside || strings.HasPrefix(within, "host/") || strings.HasPrefix(within, "bindings/") {
			continue
		}
		seen++
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, i := range file.Imports {
			require.NotContains(t, i.Path.Value, "golang.org/x/sys/", path)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "syscall" {
					require.Regexp(t, everywhere, s.Sel.Name, path)
				}
			}
			return true
		})
	}
	require.Greater(t, seen, 300)
}
