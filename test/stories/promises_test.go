package stories

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// Training starts always: a token that is wrong, a project that is unknown cost nothing but a word, and what was
// recorded is sent when they are put right.
func TestRecordStartsAlways(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	reading := []string{`{"kind":"readings","id":1,"step":1,"epoch":1,"values":{"loss.val":1}}`}
	out, errs, code := run(w.speakAs(w.recordWith([]string{"--wait", "1s"}, os.Args[0]), reading...))
	require.Zero(t, code, errs)
	require.Contains(t, out, `"kept"`)
	require.Contains(t, errs, `there is no project "vessels"`)
	require.Contains(t, errs, "The program starts all the same")
	require.Contains(t, errs, "kembrel spool send")
	wrong := w.speakAs(w.recordWith([]string{"--wait", "1s"}, "sh", "-c", "echo trained; exit 4"))
	wrong.Env = append(wrong.Env, "KEMBREL_TOKEN=nonsense")
	out, errs, code = run(wrong)
	require.Equal(t, 4, code)
	require.Equal(t, "trained\n", out)
	require.Contains(t, errs, "The program starts all the same")
	w.kembrel(t, "projects", "create", "vessels")
	require.Contains(t, w.kembrel(t, "spool", "send"), "sent 1 reading ")
	w.nothingWaits(t)
	states := []string{w.show(t, "vessels/1").State, w.show(t, "vessels/2").State}
	require.ElementsMatch(t, []string{"finished", "failed"}, states)
	_, _, code = w.try("record", "--project", "vessels", "--hyper", "lr", "--", "true")
	require.Equal(t, 2, code, "only a usage error stops it")
}

// What was asked and what was used are two things: the run has what the program used.
func TestAskedAndUsed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	deaf := w.script(t, "deaf.py", `
import kembrel
lr = 0.03
run = kembrel.record("vessels", hyper={"lr": lr, "depth": 2})
depth = run.hyper["depth"]
run.readings(1, 1, {"loss.val": lr * depth})
run.end()
`)
	out, errs, code := run(w.record(deaf...))
	require.Zero(t, code, out+errs)
	out, errs, code = w.try("rerun", "vessels/1", "--hyper", "lr=0.2", "--hyper", "depth=5")
	require.Zero(t, code, out+errs)
	require.Contains(t, errs, "warning: Asked, not taken: lr = 0.2 (it used 0.03).")
	r := w.show(t, "vessels/2")
	require.Equal(t, "0.03", string(r.Hyper["lr"]))
	require.Equal(t, "5", string(r.Hyper["depth"]), "it is read, so it is taken")
	require.Equal(t, []api.Untaken{{Name: "lr", Asked: json.RawMessage("0.2"),
		Used: json.RawMessage("0.03")}}, r.Untaken)
	require.Equal(t, 0.15, float64(w.curves(t, "vessels/2")["loss.val"].Value[0]))
	require.Contains(t, w.kembrel(t, "show", "vessels/2"), "0.03   asked, not taken: 0.2")
	var found api.Page[api.Run]
	w.decode(t, &found, "runs", "vessels", "--where", "hyper.lr == 0.2", "--output", "json")
	require.Empty(t, found.Items)

	_, errs, code = w.try("rerun", "vessels/1", "--hyper", "nosuch=1")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "vessels/1 has no hyperparameter nosuch")
	require.Contains(t, errs, "It has: depth, lr")
	// A value in the command is substituted there, also for a program that says nothing.
	script := filepath.Join(w.folder, "train.sh")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\necho \"$@\"\n"), 0o755))
	out, errs, code = run(w.recordWith([]string{"--hyper", "lr=0.03"}, script, "--lr", "0.03"))
	require.Zero(t, code, out+errs)
	out, errs, code = w.try("rerun", "vessels/3", "--hyper", "lr=0.5")
	require.Zero(t, code, errs)
	require.Contains(t, out, "--lr 0.5")
	require.Equal(t, "0.5", string(w.show(t, "vessels/4").Hyper["lr"]))
	require.Empty(t, w.show(t, "vessels/4").Untaken)
}

// A trial has the values that its program used, too: what stands in no brace and is not taken is asked only.
func TestAskedOfATrial(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	require.NoError(t, os.WriteFile(w.folder+"/space.yaml",
		[]byte("space: 1\nhyperparameters:\n  lr: {choice: [0.1, 0.2]}\n  depth: 3\n"), 0o644))
	require.NoError(t, os.WriteFile(w.folder+"/train.sh", []byte("#!/bin/sh\necho \"$@\"\n"), 0o755))
	out, errs, code := w.try("search", "grid", "--project", "vessels", "--space", "space.yaml", "--",
		"./train.sh", "--lr", "{lr}")
	require.Zero(t, code, out+errs)
	w.nothingWaits(t)
	for _, address := range []string{"vessels/1", "vessels/2"} {
		r := w.show(t, address)
		require.Contains(t, []string{"0.1", "0.2"}, string(r.Hyper["lr"]))
		require.NotContains(t, r.Hyper, "depth")
		require.Equal(t, []api.Untaken{{Name: "depth", Asked: json.RawMessage("3")}}, r.Untaken)
	}
}

// A finished run is not resumed unless it is to train further; the time it took is that of its legs.
func TestResumingAFinishedRun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	program := func(last int) []string {
		return w.script(t, fmt.Sprintf("train%d.py", last), fmt.Sprintf(`
import random, time, kembrel
run = kembrel.record("vessels")
state = run.resumed.part("weights")["n"] if run.resumed else 0
for epoch in run.epochs(%d):
    state += 1
    time.sleep(0.05)
    run.readings(epoch, epoch, {"loss.val": 1 / state})
    run.save(epoch, epoch, weights={"n": state}, optimiser={}, random=random.getstate())
run.end()
print("state", state)
`, last))
	}
	out, errs, code := run(w.record(program(3)...))
	require.Zero(t, code, out+errs)
	for _, args := range [][]string{{"resume", "vessels/1"}, {"resume", "vessels/1@e2"},
		append([]string{"record", "--resume", "vessels/1", "--"}, program(3)...)} {
		_, errs, code = w.try(args...)
		require.Equal(t, 6, code, errs)
		require.Contains(t, errs, "vessels/1 is finished")
		require.Contains(t, errs, "--more")
		require.Contains(t, errs, "kembrel branch vessels/1@")
	}
	require.Len(t, w.show(t, "vessels/1").Legs, 1)
	took := w.show(t, "vessels/1").Took
	time.Sleep(3 * time.Second)
	out, errs, code = w.try(append([]string{"resume", "--more", "vessels/1", "--"}, program(6)...)...)
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "state 6", "weights of six epochs, not of nine")
	r := w.show(t, "vessels/1")
	require.Len(t, r.Legs, 2)
	require.Less(t, r.Took, r.Ended.Sub(r.Started).Seconds()-2, "what lay between the legs is not counted")
	require.Greater(t, r.Took, took)
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 6)
}

// A program that begins again from its first step although it goes on from a checkpoint is told once what is wrong, and
// the run says it.
func TestBeginningAgainIsSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	program := w.script(t, "train.py", `
import os, random, kembrel
run = kembrel.record("vessels")
for epoch in range(1, 9):
    run.readings(epoch * 10, epoch, {"loss.val": 1 / epoch})
    run.save(epoch * 10, epoch, weights={"n": epoch}, optimiser={}, random=random.getstate())
    if epoch == 5 and not run.resumed:
        run.settle()
        os.kill(os.getpid(), 9)
run.end()
`)
	_, _, code := run(w.record(program...))
	require.Equal(t, 137, code)
	out, errs, code := w.try("resume", "vessels/1")
	require.Zero(t, code, out+errs)
	require.Equal(t, 1, strings.Count(errs, "the program begins again at step 10"), errs)
	require.Contains(t, errs, "for epoch in run.epochs(N)")
	text := ""
	for _, n := range w.show(t, "vessels/1").Notes {
		text += n.Text + "\n"
	}
	require.Contains(t, text, "its loop does not start behind the checkpoint")
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 8, "each epoch once")
}

// What another person recorded is shown, harmless, and runs only when that is said; nothing of it comes in by the way.
func TestNobodyElsesCommands(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	mallory := *w
	mallory.env = append(append([]string{}, w.env...), "KEMBREL_TOKEN="+w.person(t, "mallory"))
	script := filepath.Join(w.folder, "preload.sh")
	require.NoError(t, os.WriteFile(script, []byte("touch "+w.folder+"/owned\n"), 0o755))
	cmd := mallory.recordWith([]string{"--env", "BASH_ENV", "--env", "LD_PRELOAD", "--env", "HARBOUR_MODE"}, "sh", "-c",
		"touch "+w.folder+"/ran; sleep 0.1 # \x1b[2J\x1b[31mharmless\r")
	cmd.Env = append(cmd.Env, "BASH_ENV="+script, "GIT_CONFIG_COUNT=1", "OMP_NUM_THREADS=3", "HARBOUR_MODE=deep")
	_, errs, code := run(cmd)
	require.Zero(t, code, errs)
	require.NoError(t, os.Remove(w.folder+"/ran"))
	_, errs, code = w.try("rerun", "vessels/1")
	require.Equal(t, 4, code)
	require.Contains(t, errs, "vessels/1 was recorded by mallory. This would run on this machine, as you:")
	require.Contains(t, errs, `\x1b[2J\x1b[31mharmless\r`)
	require.NotContains(t, errs, "\x1b")
	require.Contains(t, errs, "--yes --from mallory")
	require.Contains(t, errs, "OMP_NUM_THREADS=3")
	require.NotContains(t, errs, "BASH_ENV")
	require.NoFileExists(t, w.folder+"/ran")
	for args, want := range map[string]int{"--yes": 2, "--from mallory": 2, "--yes --from ines": 4} {
		_, errs, code = w.try(append([]string{"rerun", "vessels/1"}, strings.Fields(args)...)...)
		require.Equal(t, want, code, "%s: %s", args, errs)
	}
	require.NoFileExists(t, w.folder+"/ran")
	_, errs, code = w.try("rerun", "vessels/1", "--yes", "--from", "mallory")
	require.Zero(t, code, errs)
	require.FileExists(t, w.folder+"/ran")
	again := w.show(t, "vessels/2")
	require.Equal(t, "3", again.Recipe.Environment["OMP_NUM_THREADS"])
	require.Empty(t, again.Recipe.Environment["BASH_ENV"])
	require.Empty(t, again.Recipe.Environment["HARBOUR_MODE"])

	// A command of one's own brings none of the recorded environment, whatever is named.
	own := w.command(w.binary, "rerun", "vessels/1", "--yes", "--from", "mallory", "--env", "HARBOUR_MODE")
	_, errs, code = run(own)
	require.Zero(t, code, errs)
	dump := filepath.Join(w.folder, "dump.sh")
	require.NoError(t, os.WriteFile(dump, []byte("env > "+w.folder+"/env\n"), 0o755))
	out, errs, code := run(mallory.speakAs(mallory.record(os.Args[0]),
		`{"kind":"readings","id":1,"step":1,"values":{"loss.val":1}}`,
		`{"kind":"checkpoint","do":"begin","id":2,"step":1}`, "write w",
		`{"kind":"checkpoint","do":"commit","id":3,"checkpoint":"KEY","parts":{"weights":["w"],"optimiser":["w2"],"random":["w3"]}}`))
	require.Zero(t, code, out+errs)
	_, errs, code = w.try("branch", "vessels/1@last", "--", "sh", dump)
	require.Equal(t, 3, code, errs)
	_, errs, code = w.try("record", "--project", "vessels", "--env", "GIT_CONFIG_COUNT", "--", "true")
	require.Zero(t, code, errs)

	// Titles and notes of others do nothing to a terminal, in completion and CSV neither.
	mallory.kembrel(t, "change", "vessels/1", "--title", "=cmd|'/c calc'!A1\x1b]0;owned\x07\rfake")
	for _, args := range [][]string{{"runs", "vessels"}, {"runs", "vessels", "-o", "csv"},
		{"runs", "vessels", "-o", "json"}, {"show", "vessels/1"}, {"__complete", "show", "vessels/"},
		{"compare", "vessels/1", "vessels/2"}} {
		out, errs, code := w.try(args...)
		require.Zero(t, code, errs)
		require.NotContains(t, out+errs, "\x1b", args)
		require.NotContains(t, out+errs, "\r", args)
		require.NotContains(t, out+errs, "\x07", args)
	}
	require.Contains(t, w.kembrel(t, "runs", "vessels", "-o", "csv"), `'=cmd|`)
	exported := w.kembrel(t, "export", "vessels", "--what", "runs", "--format", "csv", "--to", "-")
	require.NotContains(t, exported, ",=cmd")
	require.NotContains(t, exported, "\x1b")
}

// person adds a person and returns a token of theirs.
func (w *world) person(t *testing.T, name string) string {
	t.Helper()
	token := strings.TrimSpace(w.kembrel(t, "tokens", "create", "setup"))
	status, text := w.ask(t, "POST", "/people",
		fmt.Sprintf(`{"name":%q,"password":"deep-water-7420","role":"member"}`, name), token)
	require.Equal(t, 201, status, text)
	cmd := w.command(w.binary, "sign-in", "--name", name)
	cmd.Env = append(cmd.Env, "KEMBREL_CREDENTIALS="+w.folder+"/"+name+".json")
	cmd.Stdin = strings.NewReader("deep-water-7420\n")
	out, errs, code := run(cmd)
	require.Zero(t, code, out+errs)
	var credentials map[string]struct{ Token string }
	content, err := os.ReadFile(w.folder + "/" + name + ".json")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(content, &credentials))
	return credentials[w.url].Token
}

// After a run went on from the middle, each checkpoint answers to its own address only.
func TestAddressesAfterResuming(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	program := w.script(t, "train.py", `
import os, random, kembrel
run = kembrel.record("vessels")
for epoch in run.epochs(6):
    run.readings(epoch * 10, epoch, {"loss.val": 1 / epoch})
    run.save(epoch * 10, epoch, weights={"n": epoch, "leg": 2 if run.resumed else 1}, optimiser={},
	random=random.getstate())
run.settle()
if not run.resumed:
    os.kill(os.getpid(), 9)
run.end()
`)
	_, _, code := run(w.record(program...))
	require.Equal(t, 137, code)
	out, errs, code := w.try("resume", "vessels/1@e3")
	require.Zero(t, code, out+errs)
	var list api.Page[api.Checkpoint]
	w.decode(t, &list, "checkpoints", "vessels/1", "--output", "json")
	addresses := map[string]bool{}
	for _, c := range list.Items {
		require.False(t, addresses[c.Address], c.Address)
		addresses[c.Address] = true
		require.Equal(t, c.Replaced, strings.Contains(c.Address, ".leg1"), c.Address)
	}
	require.Len(t, addresses, 9)
	require.True(t, addresses["vessels/1@s60.leg1"] && addresses["vessels/1@e6"])
	branch := func(from string) string {
		out, errs, code := w.try(append([]string{"branch", from, "--"},
			w.script(t, "branch.py",
				"import kembrel\nrun = kembrel.record()\nrun.readings(100, 10, {'loss.val': 1})\nrun.end()\n")...)...)
		require.Zero(t, code, out+errs)
		return w.show(t, fmt.Sprintf("vessels/%d", len(w.runs(t)))).Origin.From
	}
	require.Equal(t, "vessels/1@s60.leg1", branch("vessels/1@s60.leg1"))
	require.Equal(t, "vessels/1@e5", branch("vessels/1@e5"))
	w.kembrel(t, "drop", "--days", "0", "vessels/1@s60.leg1")
	w.kembrel(t, "restore", "vessels/1@e6", "--into", w.folder+"/six")
	w.kembrel(t, "restore", "vessels/1@s60", "--into", w.folder+"/sixty")
	content, err := os.ReadFile(w.folder + "/sixty/weights.json")
	require.NoError(t, err)
	require.Contains(t, string(content), `["leg", 2]`)
	w.kembrel(t, "drop", "vessels/1@s40.leg1")
	require.NotContains(t, w.kembrel(t, "show", "vessels/1@e4"), "to be deleted ")
	// What was branched from is still found by its address when a later leg has replaced it.
	out, errs, code = w.try(append([]string{"resume", "--more", "vessels/1@e4", "--"}, program...)...)
	require.Zero(t, code, out+errs)
	require.Equal(t, "vessels/1@s50.leg2", w.show(t, "vessels/3").Origin.From)
	var tried api.KeepTried
	w.decode(t, &tried, "keep", "try", "vessels", "--last", "1", "--output", "json")
	seen := map[string]bool{}
	for _, c := range tried.Checkpoints {
		require.False(t, seen[c.Address], "%s twice", c.Address)
		seen[c.Address] = true
	}
}

// Blobs that are away for a moment, and are back, are as if nothing had been.
func TestBlobsAwayForAMoment(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	w.train(t, w.folder+"/keep", "--save-every", "1")
	pack := w.folder + "/data/blobs/pack"
	require.NoError(t, os.Rename(pack, w.folder+"/elsewhere"))
	_, errs, code := w.try("restore", "vessels/1@best", "--into", w.folder+"/model")
	require.NotZero(t, code)
	require.Contains(t, errs, "is not where it was kept")
	require.Contains(t, errs, "b3:")
	require.NotContains(t, errs, "unexpected EOF")
	out, _, code := w.try("blobs", "check")
	require.Equal(t, 7, code)
	require.Contains(t, out, "missing")
	require.NotContains(t, out, "damaged")
	token := strings.TrimSpace(w.kembrel(t, "tokens", "create", "reading"))
	status, _ := w.ask(t, "GET", "/projects/vessels/runs/1/checkpoints/last/file?path=weights.safetensors", "", token)
	require.Equal(t, 503, status, "it does not begin with 200")
	require.NoError(t, os.RemoveAll(pack))
	require.NoError(t, os.Rename(w.folder+"/elsewhere", pack))
	w.kembrel(t, "restore", "vessels/1@best", "--into", w.folder+"/model")
	require.Contains(t, w.kembrel(t, "blobs", "check"), "are what they are named by")
	var totals api.BlobTotals
	w.decode(t, &totals, "blobs", "--output", "json")
	require.Zero(t, totals.Missing+totals.Damaged)
	require.NoError(t, syscall.Access(pack, 0))
}

// A run whose project is not there is kept, says so at its start and at its end, and is sent to another project.
func TestNoProject(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	lines := []string{`{"kind":"readings","step":1,"epoch":1,"values":{"loss.val":0.5}}`, `{"kind":"note","text":"calm sea"}`}
	for i, flags := range [][]string{{"--project", "nosuch"}, {"--quiet"}} {
		cmd := w.speakAs(w.command(w.binary, slices.Concat([]string{"record"}, flags, []string{"--",
			os.Args[0]})...), lines...)
		out, errs, code := run(cmd)
		require.Zero(t, code, out+errs)
		require.Contains(t, errs, "NOTHING CAN BE DELIVERED YET: "+[]string{`there is no project "nosuch"`, "no project is named"}[i])
		require.Contains(t, errs, "NOTHING OF THIS RUN IS DELIVERED: ")
		named := regexp.MustCompile(`The spool (\S+) keeps it all`).FindStringSubmatch(errs)
		require.NotEmpty(t, named, errs)
		id := named[1]
		_, errs, code = w.try("spool", "send", "--project", "vessels")
		require.Equal(t, 2, code, errs)
		require.Equal(t, fmt.Sprintf("%s: sent 1 reading and 1 other record of vessels/%d\n", id, i+1),
			w.kembrel(t, "spool", "send", id, "--project", "vessels"))
		require.Equal(t, "calm sea", w.show(t, fmt.Sprintf("vessels/%d", i+1)).Notes[0].Text)
	}
}
