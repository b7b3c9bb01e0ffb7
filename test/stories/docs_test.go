package stories

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var fence = regexp.MustCompile("(?ms)^```([a-z]*)\n(.*?)^```$")

// blocks are the code blocks of a document that are in a language.
func blocks(t *testing.T, document, language string) (out []string) {
	t.Helper()
	text, err := os.ReadFile("../../" + document)
	require.NoError(t, err)
	for _, m := range fence.FindAllStringSubmatch(string(text), -1) {
		require.NotEmpty(t, m[1],
			"%s: a block says what it is: sh is run by this test, text is not:\n%s", document, m[2])
		if m[1] == language {
			out = append(out, m[2])
		}
	}
	return out
}

// emptyHome gives a world a home with nothing in it, and a folder with the programs that the documents speak of.
func emptyHome(t *testing.T) *world {
	w := newWorld(t)
	var env []string
	for _, e := range w.env {
		switch name, _, _ := strings.Cut(e, "="); name {
		case "HOME", "KEMBREL_CREDENTIALS", "KEMBREL_CONFIG", "KEMBREL_SPOOL", "KEMBREL_BINARY", "XDG_CONFIG_HOME",
			"XDG_STATE_HOME", "PATH":
		default:
			env = append(env, e)
		}
	}
	tools := w.folder + "/bin"
	require.NoError(t, os.MkdirAll(w.folder+"/home", 0o700))
	require.NoError(t, os.MkdirAll(tools, 0o755))
	require.NoError(t, os.Symlink(w.binary, tools+"/kembrel"))
	require.NoError(t, os.Symlink(w.harbour, tools+"/harbour"))
	require.NoError(t, os.Symlink(w.harbour, w.folder+"/harbour"))
	require.NoError(t, os.WriteFile(w.folder+"/train.sh", []byte("#!/bin/sh\necho trained\n"), 0o755))
	require.NoError(t, os.WriteFile(w.folder+"/history.csv",
		[]byte("epoch,loss.train,loss.val\n1,0.9,1.0\n2,0.5,0.7\n"), 0o644))
	w.env = append(env, "HOME="+w.folder+"/home", "PATH="+tools+":/usr/bin:/bin")
	w.spool = w.folder + "/home/.local/state/kembrel/spool"
	return w
}

// sh runs a block as it is written, but for the service's address.
func (w *world) sh(t *testing.T, document, block string) string {
	t.Helper()
	block = strings.ReplaceAll(block, "http://127.0.0.1:7420", w.url)
	cmd := w.command("/bin/sh", "-euc", block)
	out, errs, code := run(cmd)
	require.Zero(t, code, "%s:\n%s\n%s%s", document, block, out, errs)
	return out + errs
}

// cutOff runs a Python program unchanged, and kills it behind a checkpoint of its first leg.
const cutOff = `
import os, sys
import kembrel
checkpoint = kembrel.Run.checkpoint
def cut(self, step, *args, **parts):
    kept = checkpoint(self, step, *args, **parts)
    if self.resumed is None and step >= int(sys.argv[2]):
        self.settle()
        os.kill(os.getpid(), 9)
    return kept
if len(sys.argv) > 2:
    kembrel.Run.checkpoint = cut
exec(compile(open(sys.argv[1]).read(), sys.argv[1], "exec"))
`

// The README's programs, pasted as they stand, resume exactly; its commands run from an empty home.
func TestReadme(t *testing.T) {
	t.Parallel()
	w := emptyHome(t)
	w.start(t)
	commands := blocks(t, "README.md", "sh")
	require.Equal(t, "make demo\n", commands[0])
	venv := w.folder + "/venv"
	out, err := exec.Command("/usr/bin/python3", "-m", "venv", venv).CombinedOutput()
	require.NoError(t, err, string(out))
	compiler, err := exec.LookPath("go")
	require.NoError(t, err)
	for i, e := range w.env {
		if strings.HasPrefix(e, "PATH=") {
			w.env[i] = "PATH=" + venv + "/bin:" + filepath.Dir(compiler) + ":" + strings.TrimPrefix(e, "PATH=")
		}
	}
	stranger,
		err := filepath.Abs("../../bindings/python/tests") // where the library is that docs/frameworks.md calls yours
	require.NoError(t, err)
	w.env = append(w.env, "PYTHONPATH="+stranger, "PYTHONDONTWRITEBYTECODE=1")
	for _, block := range commands[1:] {
		if !strings.Contains(block, "--for-use") && !strings.Contains(block, "build:") { // what follows the demo
			w.sh(t, "README.md", block)
		}
	}
	require.Equal(t, "finished", w.show(t, "vessels/1").State)

	for _, document := range []string{"README.md", "docs/python.md", "docs/frameworks.md"} {
		for _, program := range blocks(t, document, "python") {
			if !strings.Contains(program, "import kembrel") {
				continue
			}
			path, wrapper := w.folder+"/program.py", w.folder+"/cut.py"
			require.NoError(t, os.WriteFile(path, []byte(program), 0o644))
			require.NoError(t, os.WriteFile(wrapper, []byte(cutOff), 0o644))
			w.resumes(t, document, "python3", wrapper, path)
		}
	}
	for _, program := range blocks(t, "README.md", "go") {
		require.NoError(t, os.WriteFile(w.folder+"/trainer/main.go", []byte(program), 0o644))
		w.sh(t, "README.md", "cd trainer && GOWORK=off go build -o ../program .")
		w.train20(t, w.folder+"/program")
	}
}

// recorded is the run that a recorder says it records.
func recorded(said string) string {
	_, line, _ := strings.Cut(said, "recording ")
	run, _, _ := strings.Cut(line, ",")
	return run
}

// resumes runs a program whole, and another time cut off and resumed, and compares.
func (w *world) resumes(t *testing.T, what string, program ...string) {
	t.Helper()
	record := func(more ...string) (string, int) {
		args := append([]string{"record", "--project", "vessels", "--"}, program...)
		out, errs, code := w.try(append(args, more...)...)
		run := recorded(errs)
		require.NotEmpty(t, run, out+errs)
		return run, code
	}
	whole, code := record()
	require.Zero(t, code, what)
	cut, code := record("10")
	require.Equal(t, 137, code, what)
	out, errs, code := w.try("resume", cut)
	require.Zero(t, code, "%s: %s%s", what, out, errs)
	w.sameRuns(t, what, whole, cut)
}

func (w *world) sameRuns(t *testing.T, what, whole, cut string) {
	t.Helper()
	a, b := w.curves(t, whole), w.curves(t, cut)
	require.Len(t, a["loss.train"].Value, 20, what)
	require.Equal(t, a["loss.train"].Value, b["loss.train"].Value, "%s: bit for bit", what)
	require.Len(t, w.show(t, cut).Legs, 2, what)
	require.Empty(t, w.show(t, cut).Untaken)
	for i, run := range []string{whole, cut} {
		w.kembrel(t, "restore", run+"@e20", "--into", fmt.Sprintf("%s/last-%s-%d", w.folder, filepath.Base(whole), i))
	}
	out, err := exec.Command("diff", "-r", fmt.Sprintf("%s/last-%s-0", w.folder, filepath.Base(whole)),
		fmt.Sprintf("%s/last-%s-1", w.folder, filepath.Base(whole))).CombinedOutput()
	require.NoError(t, err, "%s: the checkpoints of the last epoch differ: %.300s", what, out)
}

// train20 is resumes for a program without a wrapper of its own: a script lets it begin only when it is watched, and it
// is let go a moment at a time until the service has a checkpoint of it; then it is killed.
func (w *world) train20(t *testing.T, program string) {
	t.Helper()
	script := w.folder + "/held.sh"
	require.NoError(t, os.WriteFile(script, fmt.Appendf(nil, `#!/bin/sh
if rm %[1]s/hold 2> /dev/null; then echo $$ > %[1]s/pid.new; mv %[1]s/pid.new %[1]s/pid; kill -STOP $$; fi
exec %[2]s
`, w.folder, program), 0o755))
	out, errs, code := w.try("record", "--project", "vessels", "--", script)
	require.Zero(t, code, out+errs)
	whole := recorded(errs)
	var cut string
	for try := 1; cut == "" && try < 10; try++ { // until the kill falls between the first checkpoint and the end
		os.Remove(w.folder + "/pid")
		require.NoError(t, os.WriteFile(w.folder+"/hold", nil, 0o644))
		cmd := w.command(w.binary, "record", "--project", "vessels", "--", script)
		said := &lockedBuffer{}
		cmd.Stderr = said
		require.NoError(t, cmd.Start())
		pid := 0
		require.Eventually(t, func() bool {
			text, err := os.ReadFile(w.folder + "/pid")
			if err == nil {
				fmt.Sscan(string(text), &pid)
			}
			return pid > 0
		}, 60*time.Second, 5*time.Millisecond)
		require.Eventually(t, func() bool { return strings.Contains(said.String(), "recording ") }, 60*time.Second,
			5*time.Millisecond)
		run := recorded(said.String())
		for !zombie(pid) && w.show(t, run).Checkpoints == 0 {
			if kill(pid, syscall.SIGCONT) != nil {
				break // it has ended
			}
			time.Sleep(time.Millisecond)
			kill(pid, syscall.SIGSTOP)
			time.Sleep(50 * time.Millisecond)
		}
		kill(pid, syscall.SIGKILL)
		cmd.Wait()
		if r := w.show(t, run); r.State == "failed" && r.Checkpoints > 0 && r.Checkpoints < 20 {
			cut = run
		}
	}
	require.NotEmpty(t, cut, "never cut off between its first and its last checkpoint")
	out, errs, code = w.try("resume", cut)
	require.Zero(t, code, out+errs)
	w.sameRuns(t, "README.md, Go", whole, cut)
}

// The commands of the documents run as they are written, from an empty home.
func TestCommandsOfTheDocuments(t *testing.T) {
	t.Parallel()
	w := emptyHome(t)
	w.start(t)
	for _, block := range blocks(t, "docs/resuming.md", "sh") {
		w.sh(t, "docs/resuming.md", block)
	}
	for n := len(w.runs(t)) + 1; n <= 8; n++ {
		out, errs, code := w.try("record", "--project", "vessels", "--", w.harbour, "train", "--hidden", "8", "--clips",
			"320", "--epochs", "6", "--save-every", "1")
		require.Zero(t, code, out+errs)
	}
	documents, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	ran := 0
	for _, path := range documents {
		document := "docs/" + filepath.Base(path)
		if document == "docs/resuming.md" || document == "docs/python.md" || // the latter is in TestReadme
			slices.Contains([]string{"docs/predictions.md", "docs/evaluations.md", "docs/files.md"},
				document) { // each in a story of its own
			blocks(t, document, "sh")
			continue
		}
		for _, block := range blocks(t, document, "sh") {
			w.sh(t, document, block)
			ran++
		}
	}
	require.GreaterOrEqual(t, ran, 5)
}
