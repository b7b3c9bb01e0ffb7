package stories

import (
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// printing is a program that knows nothing of the recorder: it prints its settings, then seven epochs.
const printing = `echo "lr=0.01 hidden=64"
for e in 1 2 3 4 5 6; do
  echo "Epoch $e/7"
  echo "  loss: 0.$((9-e))5 - val/loss=0.$((10-e)) accuracy: 8$e%"
  sleep ${PAUSE:-0}
done
echo '{"epoch": 7, "loss": NaN, "train": {"rate": 0.1}}'
echo "Epoch 5 loss: abc" >&2
printf 'Epoch 7 val/loss=0.25'`

// A program is recorded by what it prints, without a word of it changed.
func TestReadingsFromOutput(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	out, errs, code := run(w.recordWith([]string{"--read-output", "auto"}, "sh", "-c", printing))
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "Epoch 6/7\n  loss: 0.35", "what it prints is still seen")
	require.Contains(t, errs, "reading from the output: accuracy, loss, loss.val")
	c := w.curves(t, "vessels/1")
	require.Len(t, c["loss"].Value, 7)
	require.Equal(t, 0.85, float64(c["loss"].Value[0]))
	require.Equal(t, []float64{0.9, 0.8, 0.7, 0.6, 0.5, 0.4, 0.25}, []float64(c["loss.val"].Value),
		"also the line without an end")
	require.Equal(t, []float64{0.81, 0.82, 0.83, 0.84, 0.85, 0.86}, []float64(c["accuracy"].Value),
		"a percentage is a share")
	require.Equal(t, []float64{0.1}, []float64(c["train.rate"].Value))
	require.NotContains(t, c, "lr", "what is printed before the first epoch is no reading")

	pattern := `^ *loss: (?P<loss_train>\S+) .*accuracy: (?P<accuracy__top1_val>\S+)|^Epoch (?P<epoch>\d+)/`
	_, errs, code = run(w.recordWith([]string{"--read-output", pattern}, "sh", "-c", printing))
	require.Zero(t, code, errs)
	c = w.curves(t, "vessels/2")
	require.Len(t, c["loss.train"].Value, 6)
	require.Equal(t, 0.86, float64(c["accuracy.top1.val"].Value[5]))
	require.NotContains(t, c, "loss.val")
	require.Equal(t, pattern, w.show(t, "vessels/2").Recipe.ReadOutput)

	// It goes with the recipe, is said where it finds nothing, and is judged before anything starts.
	w.kembrel(t, "rerun", "vessels/2")
	require.Len(t, w.curves(t, "vessels/3")["loss.train"].Value, 6)
	_, errs, code = run(w.recordWith([]string{"--read-output", "auto"}, "sh", "-c", "echo nothing here; exit 3"))
	require.Equal(t, 3, code)
	require.Contains(t, errs, "no readings were found in the program's output")
	require.Contains(t, w.show(t, "vessels/4").Notes[0].Text, "There are no readings")
	_, errs, code = run(w.recordWith([]string{"--read-output", "loss ("}, "sh", "-c", "true"))
	require.Equal(t, 2, code)
	require.Contains(t, errs, "--read-output: the pattern is no regular expression")
}

// Where the recorder is killed, the program goes on, and what it prints is found when its spool is sent.
func TestReadingsFromOutputOfADeadRecorder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	cmd := w.recordWith([]string{"--read-output", "auto"}, "sh", "-c", printing)
	cmd.Env = append(cmd.Env, "PAUSE=0.4")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		out, _, _ := w.try("curves", "vessels/1", "--by", "step", "-o", "json")
		return strings.Contains(out, "0.75")
	}, 30*time.Second, 50*time.Millisecond)
	require.NoError(t, kill(cmd.Process.Pid, syscall.SIGKILL))
	cmd.Wait()
	require.Eventually(t, func() bool {
		out, errs, _ := w.try("spool", "send")
		t.Log(out, errs)
		return strings.Contains(out, "sent")
	}, 30*time.Second, 200*time.Millisecond, "once the program has ended")
	c := w.curves(t, "vessels/1")
	require.Contains(t, []int{7, 8}, len(c["loss"].Value), "at most the line that was being read comes twice")
	require.Equal(t, 0.25, float64(c["loss.val"].Value[len(c["loss.val"].Value)-1]))
}
