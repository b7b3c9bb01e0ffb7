package stories

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// python makes a virtual environment with the wheel that the service hands out, by one pip command, and returns its
// interpreter.
func (w *world) python(t *testing.T) string {
	t.Helper()
	if _, err := os.Stat("/usr/bin/python3"); err != nil {
		t.Skip("python3 is not installed; make test installs it")
	}
	venv := w.folder + "/venv"
	out, err := exec.Command("/usr/bin/python3", "-m", "venv", venv).CombinedOutput()
	require.NoError(t, err, string(out))
	out, err = exec.Command(venv+"/bin/pip", "install", "--no-index", "--find-links", w.url+"/python/",
		"kembrel").CombinedOutput()
	require.NoError(t, err, string(out))
	return venv + "/bin/python"
}

// One pip command sets up a machine that trains: the binding and the recorder. A program without a recorder around
// starts its own.
func TestPythonFromTheService(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	python := w.python(t)
	script, err := filepath.Abs("../../bindings/python/tests/trainer.py")
	require.NoError(t, err)
	start := func(recorder bool, mode string, more ...string) *exec.Cmd {
		cmd := w.command(python, script, mode)
		if recorder {
			cmd = w.record(python, script, mode)
		}
		for i, e := range cmd.Env { // the recorder is the wheel's own
			if strings.HasPrefix(e, "KEMBREL_BINARY=") {
				cmd.Env[i] = "KEMBREL_BINARY="
			}
		}
		cmd.Env = append(cmd.Env, more...)
		return cmd
	}
	for i, mode := range []string{"plain", "fork", "threads"} {
		out, errs, code := run(start(i == 0, mode))
		require.Zero(t, code, "%s: %s%s", mode, out, errs)
		address := fmt.Sprintf("vessels/%d", i+1)
		require.Eventually(t, func() bool { return w.show(t, address).State == "finished" }, 60*time.Second,
			100*time.Millisecond, mode)
		r := w.show(t, address)
		require.JSONEq(t, `[2,1]`, string(r.Hyper["net.layers"]))
		require.Equal(t, "Its weights were fresh, seed 3.", r.Start.Says)
		c := w.curves(t, address)
		require.Len(t, c["loss.train"].Value, 60)
		require.NotContains(t, c, "loss.val", "a forked child records nothing")
		if mode == "threads" {
			require.Len(t, r.Notes, 800)
		}
	}
	require.Contains(t, strings.Join(w.show(t, "vessels/1").Recipe.Command, " "), "trainer.py")
	require.Contains(t, w.show(t, "vessels/1").Recipe.Packages, "kembrel")

	out, errs, code := run(start(false, "crash"))
	require.Equal(t, 1, code, out+errs)
	require.Eventually(t, func() bool { return w.show(t, "vessels/4").State == "failed" }, 60*time.Second,
		100*time.Millisecond)
	require.Contains(t, w.show(t, "vessels/4").Legs[0].Why, "RuntimeError: the sea is rough")

	// Killed in the middle and resumed, it ends as the first run did.
	cmd := start(true, "plain", "PACE=3")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		_, _, code := w.try("restore", "vessels/5@e2", "--into", w.folder+"/x", "--parts", "random", "--overwrite")
		return code == 0
	}, 60*time.Second, 50*time.Millisecond)
	processes(func(pid int, args []string, env string) {
		if len(args) > 1 && args[0] == python && args[1] == script && strings.Contains(env, "PACE=3") {
			kill(pid, syscall.SIGKILL)
		}
	})
	cmd.Wait()
	w.nothingWaits(t)
	resumed := w.command(w.binary, "resume", "vessels/5")
	out, errs, code = run(resumed)
	require.Zero(t, code, out+errs)
	w.equalRuns(t, "vessels/1", "vessels/5")

	// A second training in the same process is another run, and it is noticed that it goes on from trained weights.
	w.kembrel(t, "restore", "vessels/1@last", "--into", w.folder+"/fit")
	cmd = start(true, "twice", "WEIGHTS="+w.folder+"/fit/weights.safetensors")
	out, errs, code = run(cmd)
	require.Zero(t, code, out+errs)
	require.Eventually(t, func() bool { return w.show(t, "vessels/7").State == "finished" }, 60*time.Second,
		100*time.Millisecond)
	require.Eventually(t, func() bool {
		again := w.show(t, "vessels/7")
		return len(again.Warnings) > 0 && strings.Contains(again.Warnings[0],
			"declared to start fresh, but its starting weights are equal to those of vessels/1@e6")
	}, 60*time.Second, 100*time.Millisecond)

	// Asked to end, it saves once more and is stopped.
	cmd = start(true, "plain", "PACE=1", "EPOCHS=100")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { _, _, code := w.try("show", "vessels/8@e1"); return code == 0 }, 60*time.Second,
		50*time.Millisecond)
	time.Sleep(130 * time.Millisecond) // between two epochs' ends
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	cmd.Wait()
	w.nothingWaits(t)
	last := w.show(t, "vessels/8")
	require.Equal(t, "stopped", last.State)
	require.Contains(t, last.Answers.Happened, "asked to end (SIGTERM)")
	var saved api.Page[api.Checkpoint]
	w.decode(t, &saved, "checkpoints", "vessels/8", "--output", "json")
	if saved.Items[0].Step%10 != 0 { // on an epoch's end, that epoch's checkpoint is the last
		require.Contains(t, saved.Items[0].Why, "asked to end (SIGTERM)")
	}
}

// pythonWorld is a service with a project, and Debian's Python with the binding as it lies in the repository, where its
// programs for tests are too.
func pythonWorld(t *testing.T) (w *world, here string) {
	t.Helper()
	if _, err := os.Stat("/usr/bin/python3"); err != nil {
		t.Skip("python3 is not installed; make test installs it")
	}
	w = newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	here, err := filepath.Abs("../../bindings/python")
	require.NoError(t, err)
	w.env = append(w.env, "PYTHONPATH="+here, "PYTHONDONTWRITEBYTECODE=1", "KEMBREL_BINARY="+w.binary)
	return w, here
}

// Hundreds of odd arguments for every call of the binding: training goes on, what is good is kept, and the run says
// what was not.
func TestOddArgumentsHarmNothing(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	cmd := w.record("/usr/bin/python3", here+"/tests/odd.py")
	out, errs, code := run(cmd)
	require.Zero(t, code, "%.4000s", out+errs)
	var calls, last int
	_, err := fmt.Sscanf(out[strings.Index(out, "survived"):], "survived %d calls, last step %d", &calls, &last)
	require.NoError(t, err, out)
	require.Greater(t, calls, 900)
	r := w.show(t, "vessels/1")
	require.Equal(t, "finished", r.State)
	curves := w.curves(t, "vessels/1")
	require.Len(t, curves["loss.train"].Value, last, "every good reading is there")
	require.Equal(t, 1.0, curves["loss.train"].Value[0], "the name that is one goes before train/loss")
	require.Equal(t, []float64{0.5, 0.125}, []float64(curves["loss.val"].Value), "val/loss is loss.val")
	require.NotEmpty(t, curves["odd.name"].Value)
	for name, want := range map[string]string{"lr": "0.25", "net.depth": "3", "net.widths": "[64,32]",
		"args.seed": "17", "args.deep.er": `"None"`, "a_b": "4"} {
		require.JSONEq(t, want, string(r.Hyper[name]), name)
	}
	problems := ""
	for _, n := range r.Notes {
		problems += n.Text + "\n"
	}
	require.Contains(t, problems, `The curve "val/loss" is recorded as loss.val.`)
	require.Contains(t, problems, "is not recorded")
	require.Contains(t, problems, "left out of the checkpoint")
	require.NotZero(t, r.Checkpoints)
}

// Several processes of one training share a recorder: the first records, the others go on from the same checkpoint, and
// neither is in the other's way.
func TestRanksShareARun(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	cmd := w.record("/usr/bin/python3", here+"/tests/ranks.py")
	cmd.Env = append(cmd.Env, "CUT=3")
	out, errs, code := run(cmd)
	require.Equal(t, 3, code, out+errs)
	r := w.show(t, "vessels/1")
	require.EqualValues(t, 3, r.Checkpoints, "the third was saved before the cut: %s %v", errs, r.Notes)
	out, errs, code = w.try("resume", "vessels/1")
	require.Zero(t, code, out+errs)
	seen := 0
	for line := range strings.Lines(out) {
		if !strings.HasPrefix(line, "{") {
			continue
		}
		var said struct {
			Rank    int
			First   int
			Weights []float64
			Saved   bool
			Address string
			Problem *string
		}
		require.NoError(t, json.Unmarshal([]byte(line), &said))
		seen++
		require.Equal(t, 4, said.First, line)
		require.Equal(t, []float64{6}, said.Weights, line)
		require.True(t, said.Saved, line)
		require.Equal(t, "vessels/1", said.Address, line)
		require.Nil(t, said.Problem, line)
	}
	require.Equal(t, 3, seen, out)
	c := w.curves(t, "vessels/1")["loss.train"]
	require.Len(t, c.Value, 60)
	for i, v := range c.Value {
		require.Equal(t, float64(i/10+1), v, "only the first process records")
	}
	require.Empty(t, w.show(t, "vessels/1").Notes)
	require.Len(t, w.runs(t), 1)
}

// The recipe of a run is what was really started: a module, the interpreter's flags; or it says that there is nothing
// to start again.
func TestRecipesOfPythonPrograms(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	w.env = append(w.env, "PYTHONPATH="+here+":"+w.folder)
	program := "import kembrel\nwith kembrel.record('vessels') as run: run.readings(1, 1, {'loss.val': 1})\n"
	require.NoError(t, os.MkdirAll(w.folder+"/hydro/net", 0o755))
	for _, f := range []string{"/hydro/__init__.py", "/hydro/net/__init__.py"} {
		require.NoError(t, os.WriteFile(w.folder+f, nil, 0o644))
	}
	require.NoError(t, os.WriteFile(w.folder+"/hydro/net/train.py", []byte(program), 0o644))
	for i, c := range []struct{ given, want []string }{
		{[]string{"-u", "-W", "ignore", "-X", "utf8", "-m", "hydro.net.train", "--lr", "0.1"},
			[]string{"-u", "-W", "ignore", "-X", "utf8", "-m", "hydro.net.train", "--lr", "0.1"}},
		{[]string{"-c", program}, []string{"-c", program}},
		{[]string{"-"}, nil},
	} {
		cmd := w.command("/usr/bin/python3", c.given...)
		cmd.Stdin = strings.NewReader(program)
		out, errs, code := run(cmd)
		require.Zero(t, code, out+errs)
		address := fmt.Sprintf("vessels/%d", i+1)
		require.Eventually(t, func() bool { return w.show(t, address).State == "finished" }, 60*time.Second,
			100*time.Millisecond, errs)
		command := w.show(t, address).Recipe.Command
		if c.want == nil {
			require.Empty(t, command)
			_, errs, code := w.try("rerun", address)
			require.NotZero(t, code)
			require.Contains(t, errs, "does not say how it was started")
			continue
		}
		require.Equal(t, c.want, command[1:])
	}
	out, errs, code := w.try("rerun", "vessels/1")
	require.Zero(t, code, out+errs)
	require.Equal(t, "finished", w.show(t, "vessels/4").State)
}

// A run ends as its program did, however that was, and however it was started: the table of docs/python.md.
func TestEndingsOfPythonPrograms(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	n := 0
	gone := "without saying that it had ended"
	for _, c := range []struct{ how, under, beside, why, whyBeside string }{
		{"nothing", "finished", "finished", "", ""}, {"exit 0", "finished", "finished", "", ""},
		{"exit 3", "failed", "failed", "SystemExit: 3", "SystemExit: 3"},
		{"exit text", "failed", "failed", "the sea is rough", "the sea is rough"},
		{"error", "failed", "failed", "RuntimeError: the sea is rough", "RuntimeError: the sea is rough"},
		{"interrupt", "stopped", "stopped", "Interrupted by a person.", "Interrupted by a person."},
		{"ask to end", "failed", "failed", "", gone}, {"kill", "failed", "failed", "", gone},
		{"at once", "finished", "failed", "", gone}, {"at once 5", "failed", "failed", "", gone},
	} {
		for _, way := range []string{"under", "attach"} {
			for _, with := range []string{"", "with"} {
				n++
				args := []string{"/usr/bin/python3", here + "/tests/endings.py", c.how}
				if with != "" {
					args = append(args, with)
				}
				cmd, state, why := w.command(args[0], args[1:]...), c.beside, c.whyBeside
				if way == "under" {
					cmd, state, why = w.record(args...), c.under, c.why
				}
				_, errs, _ := run(cmd)
				address, what := fmt.Sprintf("vessels/%d", n), strings.Join([]string{c.how, way, with}, " ")
				require.Eventually(t, func() bool { return w.show(t, address).State != "running" }, 60*time.Second,
					50*time.Millisecond, what)
				r := w.show(t, address)
				require.Equal(t, state, r.State, "%s: %s", what, errs)
				require.Contains(t, r.Legs[0].Why, why, what)
			}
		}
	}
}

// A standard file of the same model fits by its names; a prefix of all names is recognised for all.
func TestMatchOfStandardFiles(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/usr/bin/python3"); err != nil {
		t.Skip("python3 is not installed; make test installs it")
	}
	here, err := filepath.Abs("../../bindings/python")
	require.NoError(t, err)
	cmd := exec.Command("/usr/bin/python3", here+"/tests/matching.py")
	cmd.Env = append(os.Environ(), "PYTHONPATH="+here, "PYTHONDONTWRITEBYTECODE=1",
		"KEMBREL_BINARY="+binary(t, "KEMBREL_BINARY", "kembrel"))
	out, errs, code := run(cmd)
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "matched")
}

// Where each process records and saves, each has curves of its own, and goes on from what it saved itself; also where
// the processes share no network.
func TestEachRankRecordsAndSaves(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	train := func(env ...string) map[int]float64 {
		cmd := w.record("/usr/bin/python3", here+"/tests/each_rank.py")
		cmd.Env = append(cmd.Env, env...)
		out, errs, code := run(cmd)
		if slices.Contains(env, "CUT=3") {
			require.Equal(t, 3, code, out+errs)
			t.Log(errs)
			out, errs, code = w.try("resume", "vessels/2")
		}
		require.Zero(t, code, out+errs)
		weights := map[int]float64{}
		for line := range strings.Lines(out) {
			var said struct {
				Rank    int
				Weights []float64
				Saved   bool
				Problem *string
			}
			if json.Unmarshal([]byte(line), &said) == nil {
				require.True(t, said.Saved, line)
				require.Nil(t, said.Problem, line)
				weights[said.Rank] = said.Weights[0]
			}
		}
		require.Len(t, weights, 3, out+errs)
		return weights
	}
	whole := train()
	require.Equal(t, whole, train("CUT=3"), "each process goes on from its own weights and random state")
	a, b := w.curves(t, "vessels/1"), w.curves(t, "vessels/2")
	for _, name := range []string{"loss.train", "rank1.loss.train", "rank2.loss.train"} {
		require.Len(t, a[name].Value, 60, name)
		require.Equal(t, a[name].Value, b[name].Value, name)
		require.True(t, slices.IsSorted(a[name].step), name)
	}
	files := w.files(t, "vessels/2@e6")
	for _, part := range []string{"weights.json", "rank1/weights.json", "rank2/random.json"} {
		require.Contains(t, files, part)
	}
	apart := []string{"--net", "true"}
	if os.Getuid() != 0 {
		apart = []string{"--user", "--net", "true"}
	}
	if exec.Command("unshare", apart...).Run() == nil { // a container may forbid it
		require.Equal(t, whole, train("APART=1"))
	}
}

// Runs of one process are runs of their own, one after another and at once, under a recorder and without.
func TestTwoRunsOfOneProcess(t *testing.T) {
	t.Parallel()
	w, _ := pythonWorld(t)
	program := w.script(t, "two.py", `
import kembrel
a = kembrel.record("vessels", title="a", hyper={"lr": 0.1})
b = kembrel.record("vessels", title="b", hyper={"lr": 0.2})
for step in range(1, 21):
    a.readings(step, step, {"loss.val": 1 / step})
    b.readings(2 * step, step, {"loss.val": 2 / step})
    if step % 10 == 0:
        print(a.save(step, step, weights=[1.0]), b.save(2 * step, step, weights=[2.0]))
a.end()
c = kembrel.record("vessels", title="c", hyper={"lr": 0.3})
c.readings(1, 1, {"loss.val": 3})
c.end()
b.end("failed", "enough")
print(a.problem, b.problem, c.problem)
`)
	for i, cmd := range []*exec.Cmd{w.record(program...), w.command(program[0], program[1:]...)} {
		out, errs, code := run(cmd)
		require.Zero(t, code, out+errs)
		require.Equal(t, "True True\nTrue True\nNone None None\n", out, errs)
		found := map[string]string{}
		require.Eventually(t, func() bool { return len(w.runs(t)) == 3*(i+1) }, 30*time.Second, 100*time.Millisecond)
		for _, r := range w.runs(t)[:3] {
			d := w.show(t, r.Address)
			require.Eventually(t, func() bool { d = w.show(t, r.Address); return d.State != "running" }, 30*time.Second,
				100*time.Millisecond)
			found[string(d.Hyper["lr"])] = fmt.Sprintf("%s %d %d", d.State,
				len(w.curves(t, r.Address)["loss.val"].Value), d.Checkpoints)
		}
		require.Equal(t, map[string]string{"0.1": "finished 20 2", "0.2": "failed 20 2", "0.3": "finished 1 0"}, found)
	}
}

// What a program saved comes back in the kind it was saved: the library's own arrays, files as paths. What would be
// written into a copy is refused where people see it.
func TestPartsComeBackInKind(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	script := []string{"/usr/bin/python3", here + "/tests/restoring.py", w.folder}
	_, errs, code := run(w.record(script...))
	require.Equal(t, 137, code, errs)
	w.nothingWaits(t)
	out, errs, code := run(w.command(w.binary, "resume", "vessels/1"))
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "restored")
	w.nothingWaits(t)
	notes := w.kembrel(t, "show", "vessels/1")
	require.Contains(t, notes, "optimiser was NOT restored", "the run tells it to whoever looks")
}

// A recorder that is killed while its program still imports costs nothing: another takes over when the program speaks.
func TestTheRecorderDiesDuringTheImport(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	program := `
import os, pathlib, sys, time
pathlib.Path(sys.argv[1]).write_text(str(os.getppid()))
while pathlib.Path(sys.argv[1]).exists():
    time.sleep(0.01)  # a long import
import kembrel
with kembrel.record("vessels", hyper={"lr": 0.5}) as run:
    for epoch in run.epochs(3):
        run.readings(epoch, epoch, {"loss.train": 1 / epoch})
    run.save(3, 3, weights={"w": 1.5})
    assert run.problem is None, run.problem
pathlib.Path(sys.argv[2]).write_text("done")
`
	at := w.folder + "/import.py"
	require.NoError(t, os.WriteFile(at, []byte(program), 0o644))
	cmd := w.record("/usr/bin/python3", at, w.folder+"/importing", w.folder+"/done")
	cmd.Env = append(cmd.Env, "PYTHONPATH="+here)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { _, err := os.Stat(w.folder + "/importing"); return err == nil }, time.Minute,
		10*time.Millisecond)
	require.NoError(t, kill(cmd.Process.Pid, syscall.SIGKILL))
	cmd.Wait()
	require.NoError(t, os.Remove(w.folder+"/importing"))
	require.Eventually(t, func() bool { _, err := os.Stat(w.folder + "/done"); return err == nil }, time.Minute,
		10*time.Millisecond)
	require.Eventually(t, func() bool {
		_, _, code := w.try("show", "vessels/1")
		return code == 0 && w.show(t, "vessels/1").State == "finished"
	}, time.Minute, 100*time.Millisecond)
	require.Len(t, w.curves(t, "vessels/1")["loss.train"].Value, 3)
	require.Equal(t, "0.5", string(w.show(t, "vessels/1").Hyper["lr"]))
	w.kembrel(t, "show", "vessels/1@last")
}
