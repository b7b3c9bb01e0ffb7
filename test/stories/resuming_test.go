package stories

import (
	"bytes"
	"fmt"
	"io/fs"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// trainings are the settings under which a resumed run must equal the uninterrupted one.
var trainings = map[string][]string{
	"momentum": {"--optimiser", "momentum", "--drop-every", "3", "--lr", "0.03"},
	"adam":     {"--optimiser", "adam", "--lr", "0.003"},
}

const resumedEpochs = 8

func (w *world) training(kind, name string, more ...string) []string {
	args := append([]string{w.harbour, "train", "--hidden", "12", "--dropout", "0.3", "--clips", "320", "--epochs",
		fmt.Sprint(resumedEpochs), "--per-step"}, trainings[kind]...)
	return append(append(args, more...), "--title", name)
}

// files reads the files of a checkpoint.
func (w *world) files(t *testing.T, checkpoint string) map[string][]byte {
	t.Helper()
	into, err := os.MkdirTemp(w.folder, "files-")
	require.NoError(t, err)
	w.kembrel(t, "restore", checkpoint, "--into", into)
	out := map[string][]byte{}
	require.NoError(t, fs.WalkDir(os.DirFS(into), ".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			out[path], err = os.ReadFile(filepath.Join(into, path))
		}
		return err
	}))
	return out
}

// equalRuns requires that two runs have the same curves, but for times and the machine, and the same last checkpoint,
// bit for bit.
func (w *world) equalRuns(t *testing.T, want, got string) {
	t.Helper()
	a, b := w.files(t, want+"@last"), w.files(t, got+"@last")
	require.Len(t, b, len(a))
	for name, content := range a {
		require.True(t, bytes.Equal(content, b[name]), "%s of %s", name, got)
	}
	x, y := w.curves(t, want), w.curves(t, got)
	for name, c := range x {
		if strings.HasPrefix(name, "host.") {
			continue
		}
		require.Equal(t, c.step, y[name].step, "%s of %s", name, got)
		require.Equal(t, c.epoch, y[name].epoch, "%s of %s", name, got)
		require.Len(t, y[name].Value, len(c.Value))
		for i, v := range c.Value {
			require.Equal(t, math.Float64bits(v), math.Float64bits(y[name].Value[i]), "%s of %s at step %d",
				name, got, c.step[i])
		}
	}
}

// A run killed at a random moment and resumed ends with weights, optimiser, random numbers and curves equal bit for bit
// to the uninterrupted one, under momentum with a schedule and under Adam, with dropout and shuffling, also where its
// recorder or the service was down.
func TestResumedEqualsUninterrupted(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes a minute")
	}
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	number, whole := 0, map[string]string{}
	for kind := range trainings {
		number++
		whole[kind] = fmt.Sprintf("vessels/%d", number)
		out, errs, code := run(w.record(w.training(kind, "whole")...))
		require.Zero(t, code, out+errs)
	}
	r := rand.New(rand.NewPCG(1851, 4))
	twice := 0
	for seed := 0; twice < 15; seed++ { // a slow machine kills fewer in time
		require.Less(t, seed, 60, "%d of them were killed in time", twice)
		kind, name := "momentum", fmt.Sprintf("killed-%d", seed)
		if seed%2 == 1 {
			kind = "adam"
		}
		number++
		address := fmt.Sprintf("vessels/%d", number)
		cmd := w.record(w.training(kind, name, "--save-steps", fmt.Sprint(3+r.IntN(20)), "--pace", "80ms")...)
		said := &lockedBuffer{}
		cmd.Stderr = said
		require.NoError(t, cmd.Start())
		trainer := 0
		require.Eventually(t, func() bool { trainer = find("train", name); return trainer > 0 }, 60*time.Second,
			5*time.Millisecond)
		require.Eventually(t, func() bool {
			_, _, code := w.try("restore", address+"@last", "--into", filepath.Join(w.folder, name), "--parts",
				"random", "--overwrite")
			return code == 0
		}, 60*time.Second, 20*time.Millisecond, "a first checkpoint")
		time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond)
		down := seed%7 == 3
		if down {
			w.stop(t, syscall.SIGKILL)
			time.Sleep(time.Duration(r.IntN(100)) * time.Millisecond)
		}
		kill(trainer, syscall.SIGKILL)
		if down || seed%3 == 0 {
			kill(cmd.Process.Pid, syscall.SIGKILL)
		}
		cmd.Wait()
		if down {
			w.start(t)
		}
		before := w.show(t, address)
		if before.State == "finished" { // it was faster than the killing
			w.equalRuns(t, whole[kind], address)
			continue
		}
		if !down && seed%3 != 0 && before.Legs[0].Signal != "" {
			require.Contains(t, said.String(), "to go on with it from its last checkpoint: kembrel resume "+address)
		}
		out, errs, code := w.try("resume", address)
		if code == 6 && strings.Contains(errs, "is finished") { // so says what its dead recorder had kept
			w.equalRuns(t, whole[kind], address)
			continue
		}
		require.Zero(t, code, "seed %d: %s%s", seed, out, errs)
		after := w.show(t, address)
		require.Equal(t, "finished", after.State)
		require.Len(t, after.Legs, 2)
		require.Equal(t, after.Legs[1].Resumed.Step+1, after.Legs[1].FromStep)
		require.Empty(t, after.Legs[1].Resumed.Lacks)
		require.Empty(t, after.Warnings)
		w.equalRuns(t, whole[kind], address)
		twice++
	}
}

// What an earlier leg had recorded beyond the resumption point stays stored, a leg that comes back is told to stop, and
// only one is written at a time.
func TestOneLegAtATime(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	old := w.record(w.training("momentum", "old", "--save-every", "1", "--pace", "400ms")...)
	var said lockedBuffer
	old.Stderr = &said
	require.NoError(t, old.Start())
	require.Eventually(t, func() bool {
		_, _, code := w.try("restore", "vessels/1@e3", "--into", w.folder+"/x", "--parts", "random", "--overwrite")
		return code == 0
	}, 60*time.Second, 50*time.Millisecond)
	_, errs, code := w.try("resume", "vessels/1@e2")
	require.Equal(t, 6, code, errs)
	require.Contains(t, errs, "vessels/1 is being recorded: leg 1")
	require.Contains(t, errs, "--take-over")
	require.NoError(t, kill(old.Process.Pid, syscall.SIGSTOP)) // its recorder hears nothing for a while
	out, errs, code := w.try("resume", "vessels/1@e2", "--take-over")
	require.Zero(t, code, out+errs)
	require.NoError(t, kill(old.Process.Pid, syscall.SIGCONT))
	old.Wait()
	require.Contains(t, said.String(), "vessels/1 goes on as leg 2")
	w.nothingWaits(t)
	r := w.show(t, "vessels/1")
	require.Equal(t, "finished", r.State, "the old leg's end is not the run's")
	require.Greater(t, r.Legs[0].LastStep, r.Legs[1].FromStep, "what it had recorded beyond is kept")
	loss := w.curves(t, "vessels/1")["loss.val"]
	require.Len(t, loss.Value, resumedEpochs, "no gap and no double")
	var first api.Curves
	w.decode(t, &first, "curves", "vessels/1", "--leg", "1", "--names", "loss.val", "-o", "json")
	require.Greater(t, len(first.Curves[0].Value), 2)
	var kept api.Page[api.Checkpoint]
	w.decode(t, &kept, "checkpoints", "vessels/1", "--output", "json")
	replaced := 0
	for _, c := range kept.Items {
		if c.Replaced {
			replaced++
			require.False(t, c.Best || c.Last)
		}
	}
	require.Positive(t, replaced)

	out, errs, code = run(w.record(w.training("momentum", "whole")...))
	require.Zero(t, code, out+errs)
	w.equalRuns(t, "vessels/2", "vessels/1")
}

// A checkpoint that lacks what the run needs is refused with what is missing; going on with the weights alone is said
// for ever.
func TestResumeNeedsTheParts(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	cmd := w.record(os.Args[0])
	w.speakAs(cmd, `{"kind":"readings","id":1,"step":10,"epoch":1,"values":{"loss.val":1,"accuracy.val":0.5}}`,
		`{"kind":"checkpoint","do":"begin","id":2,"step":10,"epoch":1}`,
		"write weights.bin", `{"kind":"checkpoint","do":"commit","id":3,"checkpoint":"KEY","parts":{"weights":["weights.bin"]}}`)
	out, errs, code := run(cmd)
	require.Zero(t, code, out+errs)
	require.Contains(t, errs, "warning: Its checkpoints lack optimiser, random")
	require.Contains(t, errs, "warning: The run tells classes apart, but its checkpoints have no part preprocess")
	w.nothingWaits(t)
	_, errs, code = w.try("resume", "--more", "vessels/1", "--", "true")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "vessels/1@e1 does not do to go on as if nothing had happened: it lacks optimiser, random")
	out, errs, code = w.try("resume", "--more", "vessels/1", "--with", "weights", "--", "true")
	require.Zero(t, code, out+errs)
	r := w.show(t, "vessels/1")
	require.Equal(t, []string{"optimiser", "random"}, r.Legs[1].Resumed.Lacks)
	require.Contains(t, strings.Join(r.Warnings, " "), "Leg 2 went on from vessels/1@e1 without its optimiser, random")
	_, errs, code = w.try("resume", "vessels/9")
	require.Equal(t, 3, code, errs)
}

// A branch has its origin and goes on behind it, with frozen layers equal; a rerun is found repeatable, or where it
// stops being so.
func TestBranchAndRerun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	out, errs, code := run(w.record(w.training("momentum", "parent", "--save-every", "1")...))
	require.Zero(t, code, out+errs)
	out, errs, code = w.try("branch", "vessels/1@e4", "--hyper", "lr=0.001", "--hyper", "freeze=1", "--title", "Frozen")
	require.Zero(t, code, out+errs)
	branch := w.show(t, "vessels/2")
	require.Equal(t, "vessels/1@e4", branch.Origin.From)
	require.EqualValues(t, 4, branch.Origin.Epoch)
	require.JSONEq(t, "0.001", string(branch.Hyper["lr"]), "in the command, which names it")
	require.JSONEq(t, "1", string(branch.Hyper["freeze"]), "through the welcome, as the command does not name it")
	require.Equal(t, "vessels/1@e4", branch.Start.Equals, "its weights are known again by their fingerprint")
	require.Empty(t, branch.Warnings)
	require.EqualValues(t, 5, w.curves(t, "vessels/2")["loss.val"].epoch[0])
	require.Contains(t, w.kembrel(t, "diff-weights", "vessels/1@e4", "vessels/2@last"),
		"2 of 4 tensors are equal, bit for bit.")

	_, errs, code = w.try("rerun", "vessels/1")
	require.Zero(t, code, errs)
	again := w.show(t, "vessels/3")
	require.True(t, again.Repeats.Same, again.Repeats.Says)
	require.Contains(t, again.Answers.Happened, "Repeatable: yes.")
	require.Nil(t, w.show(t, "vessels/2").Repeats)
	// The same command with a program that is not the same: it reads its seed from a file.
	script := filepath.Join(w.folder, "train.sh")
	write := func(rate string) {
		require.NoError(t, os.WriteFile(script,
			[]byte("#!/bin/sh\nexec "+strings.Join(w.training("momentum", "x"), " ")+" --dropout "+rate+"\n"), 0o755))
	}
	write("0.3")
	out, errs, code = run(w.record(script))
	require.Zero(t, code, out+errs)
	write("0.2")
	_, errs, code = w.try("rerun", "vessels/4")
	require.Zero(t, code, errs)
	require.Contains(t, errs, "differs from vessels/4: program: its file is another one now")
	odd := w.show(t, "vessels/5")
	require.False(t, odd.Repeats.Same)
	require.Contains(t, odd.Repeats.Says, "Repeatable: no, since epoch 1")

	_, errs, code = w.try("verify", "vessels/1@best", "--", w.harbour, "evaluate")
	require.Zero(t, code, errs)
	require.Contains(t, w.kembrel(t, "show", "vessels/1@best"), "verified on")
	_, _, code = w.try("verify", "vessels/1@e2", "--", w.harbour, "evaluate", "--folder",
		filepath.Join(w.folder, "files-other"))
	require.Equal(t, 1, code)
	w.kembrel(t, "restore", "vessels/1@e3", "--into", w.folder+"/other")
	out, errs, code = w.try("verify", "vessels/1@e2", "--", w.harbour, "evaluate", "--folder", w.folder+"/other")
	require.Equal(t, 7, code, errs)
	require.Contains(t, out, "not the same on")
	out, _, code = w.try("match", "vessels/1@best", "vessels/1@best:architecture")
	require.Zero(t, code, out)
}

// The recorded commit and what was not committed are checked out anew, wherever the working folder has gone since, and
// a secret is never recorded.
func TestRerunFromTheRecordedTree(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	repository := filepath.Join(w.folder, "harbour-code")
	inside := filepath.Join(repository, "classifier")
	require.NoError(t, os.MkdirAll(inside, 0o755))
	write := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(inside, "train.sh"),
			[]byte("#!/bin/sh\necho "+text+" $TZ\n"), 0o755))
	}
	git := func(args ...string) {
		cmd := exec.Command("git",
			append([]string{"-C", repository, "-c", "user.name=Ines", "-c",
				"user.email=ines@harbour.example"}, args...)...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	write("committed")
	git("init", "-q")
	git("add", ".")
	git("commit", "-qm", "first")
	write("changed")
	cmd := w.recordWith([]string{"--env", "SEA_STATE"}, "./train.sh")
	cmd.Dir = inside
	cmd.Env = append(cmd.Env, "TZ=Europe/Lisbon", "SEA_STATE=3", "HARBOUR_TOKEN=secret")
	out, errs, code := run(cmd)
	require.Zero(t, code, out+errs)
	recipe := w.show(t, "vessels/1").Recipe
	require.Equal(t, "classifier", recipe.Inside)
	require.Contains(t, recipe.Changes, "+echo changed")
	require.Equal(t, []string{"Europe/Lisbon", "3", ""}, []string{recipe.Environment["TZ"],
		recipe.Environment["SEA_STATE"], recipe.Environment["HARBOUR_TOKEN"]})
	require.False(t, *recipe.Clean)
	_, errs, code = run(w.recordWith([]string{"--env", "HARBOUR_TOKEN"}, "true"))
	require.Equal(t, 2, code)
	require.Contains(t, errs, "may hold a secret")

	git("commit", "-qam", "second")
	write("changed again")
	again := w.command(w.binary, "rerun", "vessels/1")
	out, errs, code = run(again)
	require.Zero(t, code, errs)
	require.Contains(t, out, "changed again Europe/Lisbon", "in its folder, as that is now, with its environment")
	require.Contains(t, errs, "differs from vessels/1: commit: ")
	require.Contains(t, errs, "uncommitted changes: a patch of")
	out, errs, code = w.try("rerun", "vessels/1", "--checkout", w.folder+"/anew")
	require.Zero(t, code, errs)
	require.Contains(t, out, "changed Europe/Lisbon", "the commit with what was changed then")
	require.NotContains(t, errs, "differs from vessels/1: commit")
	require.NoError(t, os.RemoveAll(inside))
	_, errs, code = w.try("rerun", "vessels/1")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "--checkout NEW-FOLDER --repository FOLDER")
	out, errs, code = w.try("rerun", "vessels/1", "--checkout", w.folder+"/third", "--repository", repository)
	require.Zero(t, code, errs)
	require.Contains(t, out, "changed Europe/Lisbon")
}
