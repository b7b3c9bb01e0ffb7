package python

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// interpreter is Debian's Python, which make test sees to, with numpy.
const interpreter = "/usr/bin/python3"

func runPython(t *testing.T, args ...string) string {
	t.Helper()
	if _, err := os.Stat(interpreter); err != nil {
		t.Skip("python3 is not installed; make test installs it")
	}
	here, err := os.Getwd()
	require.NoError(t, err)
	cmd := exec.Command(interpreter, args...)
	for _, e := range os.Environ() {
		if !strings.HasPrefix(e, "KEMBREL_") {
			cmd.Env = append(cmd.Env, e)
		}
	}
	cmd.Env = append(cmd.Env, "PYTHONPATH="+here, "PYTHONDONTWRITEBYTECODE=1", "KEMBREL_BINARY=/nonexistent")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// -S leaves out the folder that Debian's numpy is in.
func TestTreesWithoutNumpy(t *testing.T) {
	require.Contains(t, runPython(t, "-S", "tests/trees.py"), "numpy False")
}

func TestTreesWithNumpy(t *testing.T) {
	require.Contains(t, runPython(t, "tests/trees.py"), "numpy True")
}

// Arrays of every order, width and direction come together as numpy brings them, with it and without.
func TestStridedArraysComeTogether(t *testing.T) {
	require.Contains(t, runPython(t, "tests/gathering.py"), "gathered")
}

// The files of a prediction sheet hold what a program handed over, of lists and of arrays.
func TestSheets(t *testing.T) {
	require.Contains(t, runPython(t, "-S", "tests/sheets.py"), "numpy False")
	require.Contains(t, runPython(t, "tests/sheets.py"), "numpy True")
}

// What goes into a part and what comes out, kind by kind, stands in a page of its own. KEMBREL_WRITE=1 writes it.
func TestKindsAreAsTheTableSays(t *testing.T) {
	page := "../../docs/python-kinds.md"
	table := "# What comes back of a part, kind by kind\n\nWritten by a test (`bindings/python/tests/kinds.py`), " +
		"on Debian's numpy and tinyarray and on small classes that speak\nthe open protocols as array libraries do. " +
		"Without a counterpart to be written into ([python.md](python.md)); with one,\n" +
		"arrays come back in its kind.\n\n" + runPython(t, "tests/kinds.py")
	if os.Getenv("KEMBREL_WRITE") != "" {
		require.NoError(t, os.WriteFile(page, []byte(table), 0o644))
	}
	known, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, table, string(known), "KEMBREL_WRITE=1 go test ./bindings/python writes docs/python-kinds.md anew")
}

// The folder installs with pip, without anything from anywhere.
func TestInstallsFromTheFolder(t *testing.T) {
	folder := t.TempDir()
	here, err := os.Getwd()
	require.NoError(t, err)
	out, err := exec.Command(interpreter, "-m", "pip", "install", "--no-index", "--no-cache-dir", "--target", folder,
		here).CombinedOutput()
	require.NoError(t, err, string(out))
	for _, f := range []string{"__init__.py", "_arrays.py", "_like.py", "_run.py", "_tree.py", "py.typed"} {
		require.FileExists(t, filepath.Join(folder, "kembrel", f))
	}
}

// A system without Unix sockets records nothing, says so once, and trains on.
func TestWithoutUnixSockets(t *testing.T) {
	out := runPython(t, "-c", `
import socket
del socket.AF_UNIX
import kembrel
with kembrel.record("vessels", hyper={"lr": 0.1}) as run:
    for epoch in run.epochs(3):
        run.readings(epoch, epoch, {"loss.val": 1 / epoch})
        run.save(epoch, epoch, weights=[1.0])
print("trained", run.problem)
`)
	require.Contains(t, out,
		"trained nothing is recorded: a recorder is spoken to by Unix sockets, which this system does not have")
	require.Equal(t, 2, strings.Count(out, "nothing is recorded"), out)
}

// A view that a library computes only when it is looked at is saved as it looks, whatever its memory holds.
func TestLazyViews(t *testing.T) {
	require.Contains(t, runPython(t, "tests/views.py"), "views read")
	require.Contains(t, runPython(t, "-S", "tests/views.py"), "views read")
}

// Columns as people have them, of numpy and of a table, become what they mean; what is wrong in them costs itself.
func TestColumnsAsPeopleHaveThem(t *testing.T) {
	require.Regexp(t, `^1[0-9]{2} columns read`, runPython(t, "tests/columns.py"))
}
