package stories

import (
	"bytes"
	"fmt"
	"math"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// How a program ends is how its run ends, and the recorder's exit code is the program's.
func TestEnds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	for i, end := range []struct {
		script, state, signal string
		code                  int
	}{
		{"echo fine", "finished", "", 0},
		{"echo the hydrophone is gone >&2; exit 3", "failed", "", 3},
		{"kill -9 $$", "failed", "killed", 137},
		{"kill -TERM $$", "failed", "terminated", 143},
	} {
		_, errs, code := run(w.record("sh", "-c", end.script))
		require.Equal(t, end.code, code, errs)
		require.Contains(t, errs, fmt.Sprintf("recording vessels/%d, %s/vessels/%[1]d; a curve named like train/loss becomes loss.train\n", i+1, w.url))
		r := w.show(t, fmt.Sprint("vessels/", i+1))
		require.Equal(t, end.state, r.State)
		require.Equal(t, end.signal, r.Legs[0].Signal)
		if end.code == 3 {
			require.Equal(t, 3, *r.Legs[0].ExitCode)
			require.Equal(t, "the hydrophone is gone", r.Legs[0].Tail)
		}
	}
	cmd := w.record("sh", "-c", "trap 'echo asked to stop; exit 0' TERM; while :; do sleep 0.1; done")
	var out bytes.Buffer
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	time.Sleep(time.Second)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait())
	require.Contains(t, out.String(), "asked to stop", "SIGTERM is passed on")
	w.nothingWaits(t)
}

func TestWhatTheRecorderRefuses(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	out, errs, code := run(w.speak(
		`{"kind":"hello","id":1,"protocol":1}`,
		`{"kind":"hello","id":2,"protocol":7}`,
		`nonsense "id"`,
		`{"kind":"readings","id":3,"step":10,"values":{"loss.val":0.5}}`,
		`{"kind":"readings","id":4,"step":9,"values":{"loss.val":0.5}}`,
		`{"kind":"readings","id":5,"step":11,"values":{"":0.5}}`,
		`{"kind":"readings","id":6,"step":11,"values":{"loss.val":"low"}}`,
		`{"kind":"hyper","id":7,"values":{"lr":1}}`,
		`{"kind":"checkpoint","do":"begin","id":8,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":9,"checkpoint":"KEY","parts":{"weights":["missing.bin"]}}`,
	))
	require.Zero(t, code, errs)
	answers := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, answers, 10)
	for i, want := range []string{`"kind":"welcome"`, "speaks protocol 1", "not a JSON object", `"kind":"kept"`,
		"goes back from step 10 to step 9", "needs a name",
		"not a number", "fixed before training", `"kind":"folder"`, "is missing"} {
		require.Contains(t, answers[i], want)
	}
	out, _, _ = run(w.speak(
		`{"kind":"checkpoint","do":"begin","id":1,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":2,"checkpoint":"nonsense","parts":{"weights":["w.bin"]}}`,
	))
	require.Contains(t, out, "is not open")
	out, _, _ = run(w.speak(
		`{"kind":"checkpoint","do":"begin","id":1,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":2,"parts":{"weights":["link"]},"checkpoint":"KEY"}`,
	))
	require.Contains(t, out, "not a plain file")
	out, _, _ = run(w.speak(
		`{"kind":"checkpoint","do":"begin","id":1,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":2,"parts":{"weights":["w.bin"]},"checkpoint":"KEY"}`,
		`{"kind":"checkpoint","do":"begin","id":3,"step":11}`,
	))
	require.Contains(t, out, `"kind":"kept","id":2`)
	require.Contains(t, out, "already")
	require.Contains(t, w.kembrel(t, "checkpoints", "vessels/4"), "vessels/4@s11")
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 1)
	w.nothingWaits(t)
}

// With no service from the first moment to the last, training goes on unharmed; everything is sent later.
func TestServiceDownAllAlong(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	began := time.Now()
	out, errs, code := run(w.command(w.binary, "record", "--project", "vessels", "--wait", "1s", "--", w.harbour,
		"train", "--hidden", "24", "--clips", "480", "--epochs", "6"))
	require.Zero(t, code, errs)
	require.Equal(t, 6, strings.Count(out, "epoch "))
	require.Less(t, time.Since(began), 30*time.Second)
	require.Contains(t, errs, "kembrel spool send")
	require.Contains(t, w.kembrel(t, "spool"), "left")

	w.start(t)
	_, errs, code = w.try("spool", "send")
	require.Equal(t, 3, code, "the project is not made yet")
	require.Contains(t, errs, `no project "vessels"`)
	w.kembrel(t, "projects", "create", "vessels")
	require.Contains(t, w.kembrel(t, "spool", "send"), "of vessels")
	r := w.show(t, "vessels/1")
	require.Equal(t, "finished", r.State)
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 6)
	require.NotZero(t, r.Checkpoints)
	require.Contains(t, w.kembrel(t, "spool"), "Nothing waits")
}

// A recorder that was killed with its program leaves a spool; spool send sends it, and the run has failed, as both are
// known to be gone.
func TestSpoolOfADeadRecorder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	cmd := w.speak(`{"kind":"readings","id":1,"step":1,"values":{"loss.val":0.5}}`,
		`{"kind":"readings","id":2,"step":2,"values":{"loss.val":"NaN"}}`, "wait")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var out lockedBuffer
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(out.String(), `"id":2`) }, 60*time.Second,
		50*time.Millisecond)
	require.NoError(t, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
	cmd.Wait()
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	require.Contains(t, w.kembrel(t, "spool", "--output", "csv"), "left,2,")
	require.Contains(t, w.kembrel(t, "spool", "send"), "sent 2 readings")
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 2)
	r := w.show(t, "vessels/1")
	require.Equal(t, "failed", r.State)
	require.Contains(t, r.Legs[0].Why, "gone without a word")
}

// A script records by a command of its own; what is wrong costs itself, and never the script.
func TestReadingsFromAScript(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	script := `set -e
for e in 1 2 3; do
  KEMBREL reading --epoch $e loss.val=0.$e val/acc=+0.5 lr=1e-3 grad=nan
done
KEMBREL reading --step 4 loss.val=high loss.train=0.25
KEMBREL reading --step 3 loss.val=9
KEMBREL reading --step 5 nonsense
KEMBREL reading --step 6 loss.val=-Inf
unset KEMBREL_RECORDER
KEMBREL reading --step 7 loss.val=1
echo to the end`
	out, errs, code := run(w.record("sh", "-c", strings.ReplaceAll(script, "KEMBREL reading", w.binary+" reading")))
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "to the end")
	for _, want := range []string{`curve "loss.val" is not kept: "high" is not a number`, "goes back",
		`"nonsense" is not NAME=VALUE`, "no recorder is around"} {
		require.Contains(t, errs, want)
	}
	c := w.curves(t, "vessels/1")
	require.Equal(t, []float64{0.1, 0.2, 0.3, math.Inf(-1)}, []float64(c["loss.val"].Value))
	require.Equal(t, []float64{0.5, 0.5, 0.5}, []float64(c["acc.val"].Value))
	require.Equal(t, []float64{0.001, 0.001, 0.001}, []float64(c["lr"].Value))
	require.Equal(t, []float64{0.25}, []float64(c["loss.train"].Value))
	require.Len(t, c["grad"].Value, 3)
	_, errs, code = w.try("reading", "loss.val=1")
	require.Equal(t, 2, code, errs)
}
