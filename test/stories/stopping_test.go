package stories

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// losses are messages that bring a validation loss per epoch, and then wait for good.
func losses(values ...float64) []string {
	var out []string
	for i, v := range values {
		out = append(out, fmt.Sprintf(`{"kind":"readings","id":%d,"step":%d,"epoch":%d,"values":{"loss.val":%v}}`, i+1,
			10*(i+1), i+1, v))
	}
	return append(out, "wait")
}

// A program that knows nothing of stop rules is ended; the run says by which rule, and where it was best.
func TestStoppedByRule(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	cmd := w.recordWith([]string{"--stop-patience", "2", "--stop-margin", "0.01", "--enforce-stop", "--grace",
		"500ms"}, os.Args[0])
	w.speakAs(cmd, losses(1, 0.5, 0.495, 0.6)...)
	out, errs, code := run(cmd)
	require.Equal(t, 128+int(syscall.SIGTERM), code, "%s %s", out, errs)
	require.Contains(t, errs, "Stop rule: no improvement of loss.val by 0.01 in 2 epochs, in epoch 4. Best 0.495 in epoch 3.")
	w.nothingWaits(t)
	r := w.show(t, "vessels/1")
	require.Equal(t, "stopped", r.State)
	require.NotNil(t, r.Stop.Stopped)
	require.EqualValues(t, 40, r.Stop.Stopped.At.Step)
	require.EqualValues(t, 30, r.Stop.Stopped.Best.Step)
	require.Contains(t, r.Answers.Happened, "Stop rule")
	require.Equal(t, "run", r.Stop.From)

	var tried api.Tried
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "stop-rule", "try", "--patience", "1", "vessels/1",
		"--output", "json")), &tried))
	require.EqualValues(t, 40, tried.Runs[0].Stop.Step, "0.495 improves without a margin")
	_, errs, code = w.try("stop-rule", "try", "vessels/1")
	require.Equal(t, 2, code, errs)
	_, errs, code = w.try("stop-rule", "set", "vessels", "--patience", "-1")
	require.Equal(t, 2, code, errs)
}

// The recorder decides alone while the service is away, and as the service does when it is back.
func TestStopRuleWhileTheServiceIsAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	w.kembrel(t, "stop-rule", "set", "vessels", "--patience", "2")
	lines := losses(1, 0.5, 0.6, 0.7, 0.8, 0.9)
	script := append([]string{lines[0], lines[1], "sleep", "sleep", "sleep", "sleep", "sleep", "sleep", "sleep",
		"sleep", "sleep", "sleep"}, lines[2:]...)
	cmd := w.speakAs(w.recordWith([]string{"--enforce-stop", "--grace", "300ms", "--wait", "1s"},
		os.Args[0]), script...)
	said := &lockedBuffer{}
	cmd.Stderr = said
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "recording vessels/1") }, 60*time.Second,
		20*time.Millisecond)
	w.stop(t, syscall.SIGKILL)
	err := cmd.Wait()
	var end *exec.ExitError
	require.ErrorAs(t, err, &end, said.String())
	require.Contains(t, said.String(),
		"Stop rule: no improvement of loss.val in 2 epochs, in epoch 4. Best 0.5 in epoch 2.",
		"epochs are those of the readings, whenever the decision fell")
	w.start(t)
	w.kembrel(t, "spool", "send")
	r := w.show(t, "vessels/1")
	require.Equal(t, "stopped", r.State)
	require.Len(t, r.Legs, 1)
	require.Contains(t, r.Legs[0].Why, "in epoch 4")
	require.NotNil(t, r.Stop.Stopped, "the rule's word is kept though nobody asked while it ran")
	require.EqualValues(t, 4, r.Stop.Stopped.At.Epoch)
	var tried api.Tried
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "stop-rule", "try", "--patience", "2", "vessels/1",
		"--output", "json")), &tried))
	require.EqualValues(t, 4, tried.Runs[0].Stop.Epoch, "the service says the same of the same readings")
}

// A program that hears the advice ends by itself; a rule set while it runs reaches it.
func TestRuleSetWhileItRuns(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	cmd := w.record(w.harbour, "train", "--hidden", "2", "--clips", "240", "--epochs", "400", "--pace", "50ms",
		"--save-every", "50")
	said := &lockedBuffer{}
	cmd.Stderr, cmd.Stdout = said, said
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "epoch  3 of") }, 60*time.Second,
		20*time.Millisecond, said)
	follow := w.command(w.binary, "follow", "vessels/1", "--every", "200ms")
	followed := &lockedBuffer{}
	follow.Stdout = followed
	require.NoError(t, follow.Start())
	w.kembrel(t, "stop-rule", "set", "vessels/1", "--patience", "1", "--margin", "9")
	require.NoError(t, cmd.Wait(), said)
	require.NotContains(t, said.String(), "epoch 400 of")
	require.NoError(t, follow.Wait())
	require.Contains(t, followed.String(), "epoch 2  step ")
	require.Contains(t, followed.String(), "Stop rule")
	w.nothingWaits(t)
	require.Equal(t, "stopped", w.show(t, "vessels/1").State)
	require.Regexp(t, `vessels/1@e\d+`, w.show(t, "vessels/1").Stop.Stopped.Checkpoint)
	verdict := w.kembrel(t, "verdict", "vessels/1", "--dispute", "the sea was rough")
	require.Contains(t, verdict, "the sea was rough")
	require.Contains(t, w.kembrel(t, "show", "vessels/1"), "disputes this: the sea was rough")
	require.NotContains(t, w.kembrel(t, "verdict", "vessels/1", "--undo"), "rough")
}

// A person stops runs from the terminal: a program that listens ends by itself, one that does not is ended; both go on
// when they are resumed, and what they printed is printed again.
func TestStoppedByAPerson(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	_, errs, code := w.try("stop", "vessels/last")
	require.Equal(t, 3, code, errs)
	require.Contains(t, errs, "has no run yet")
	listens := w.record(w.harbour, "train", "--hidden", "2", "--clips", "240", "--epochs", "400", "--pace", "50ms",
		"--save-every", "1", "--momentum", "0.9")
	said := &lockedBuffer{}
	listens.Stderr, listens.Stdout = said, said
	require.NoError(t, listens.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "epoch  3 of") }, 60*time.Second,
		20*time.Millisecond, said)
	require.Contains(t, w.kembrel(t, "stop", "vessels/last", "--why", "the sea state is wrong"), "is told to stop")
	require.NoError(t, listens.Wait(), said.String())
	r := w.show(t, "vessels/1")
	require.Equal(t, "stopped", r.State)
	require.Contains(t, r.Legs[0].Why, "asked it to stop: the sea state is wrong")
	require.Contains(t, w.kembrel(t, "audit", "vessels", "--verb", "told-to-stop", "--output", "json"),
		"the sea state is wrong")
	_, errs, code = w.try("stop", "vessels/1")
	require.Equal(t, 6, code, errs)
	require.Contains(t, errs, "is not being recorded; it is stopped")
	printed := w.kembrel(t, "output", "vessels/1")
	require.Contains(t, printed, "epoch  3 of 400")
	require.Equal(t, 1, strings.Count(printed, "epoch  3 of"))

	again := w.command(w.binary, "resume", "vessels/1")
	said = &lockedBuffer{}
	again.Stderr, again.Stdout = said, said
	require.NoError(t, again.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "of 400") }, 60*time.Second,
		20*time.Millisecond, said)
	time.Sleep(6 * time.Second) // it hears nothing to stop for
	require.Equal(t, "running", w.show(t, "vessels/1").State, said.String())
	w.kembrel(t, "stop", "vessels/1")
	require.NoError(t, again.Wait(), said.String())

	deaf := w.recordWith([]string{"--grace", "1s"}, "sh", "-c", "trap '' TERM; echo sounding; while :; do sleep 0.1; done")
	said = &lockedBuffer{}
	deaf.Stderr, deaf.Stdout = said, said
	require.NoError(t, deaf.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "recording vessels/2") }, 60*time.Second,
		20*time.Millisecond, said)
	follow := w.command(w.binary, "output", "vessels/2", "--follow")
	followed := &lockedBuffer{}
	follow.Stdout = followed
	require.NoError(t, follow.Start())
	require.Eventually(t, func() bool { return strings.Contains(followed.String(), "sounding") }, 60*time.Second,
		20*time.Millisecond)
	w.kembrel(t, "stop", "vessels/2", "--advise")
	time.Sleep(6 * time.Second)
	require.Equal(t, "running", w.show(t, "vessels/2").State, "it was told and no more")
	w.kembrel(t, "stop", "vessels/2")
	require.Error(t, deaf.Wait())
	require.Equal(t, "stopped", w.show(t, "vessels/2").State)
	require.NoError(t, follow.Wait())
	w.nothingWaits(t)
}
