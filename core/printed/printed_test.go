package printed

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// say writes a reading for comparison.
func say(r Reading, ok bool) string {
	if !ok {
		return "-"
	}
	out := ""
	if r.Step != nil {
		out += fmt.Sprintf("step %d ", *r.Step)
	}
	if r.Epoch != nil {
		out += fmt.Sprintf("epoch %v ", *r.Epoch)
	}
	return out + strings.TrimPrefix(fmt.Sprint(r.Values), "map")
}

func TestLines(t *testing.T) {
	for _, c := range []struct{ pattern, lines, want string }{
		{Auto, "epoch=3 loss.train=0.31", "epoch 3 [loss.train:0.31]"},
		{Auto, "Epoch 3/40  loss: 0.31 - accuracy: 87.5%", "epoch 3 [accuracy:0.875 loss:0.31]"},
		{Auto, "step 480, loss.val=4.1e-1;rate=.03", "step 480 [loss.val:0.41 rate:0.03]"},
		{Auto, "[step 12/100] loss=nan grad=inf low=-inf", "step 12 [grad:+Inf loss:NaN low:-Inf]"},
		{Auto, "lr=0.01 hidden=128", "-"},
		{Auto, "Epoch 2\n  loss: 0.5\n  accuracy: 0.8", "-|epoch 2 [loss:0.5]|epoch 2 [accuracy:0.8]"},
		{Auto, "epoch 1 step 99 loss=1\nepoch 2 step 1 loss=2\nepoch 2 step 99 loss=3\nepoch 3 step 1 loss=4",
			"step 99 epoch 1 [loss:1]|step 100 epoch 2 [loss:2]|step 198 epoch 2 [loss:3]|step 199 epoch 3 [loss:4]"},
		{Auto, "epoch 3 at 12:30:05 in 2h, eta: 5m, took: 3.2s loss=1", "epoch 3 [loss:1]"},
		{Auto, `{"epoch": 3, "train": {"loss": 0.31, "note": "x"}, "val/loss": 0.4, "done": true}`,
			"epoch 3 [train.loss:0.31 val/loss:0.4]"},
		{Auto, `{"step": 7, "loss": NaN, "low": -Infinity, "all": [1, NaN]}`, "step 7 [loss:NaN low:-Inf]"},
		{Auto, "{'epoch': 2, 'loss': 0.25}", "epoch 2 [loss:0.25]"},
		{Auto, "epoch 1 loss=3\repoch 1 loss=2\repoch 1 loss=1\r", "epoch 1 [loss:1]"},
		{Auto, "\x1b[32mepoch 4\x1b[0m loss=\x1b[1m0.5\x1b[0m", "epoch 4 [loss:0.5]"},
		{Auto, "epoch 1.5 loss=0.5", "step 1 epoch 1.5 [loss:0.5]"},
		{Auto, "epoch 1 loss=1e999", "epoch 1 [loss:+Inf]"},
		{Auto, "epoch -1 loss=2\nsteps loss=1", "-|-"},
		{Auto, "epoch 1 " + strings.Repeat("x", MaxLine) + " loss=1", "-"},
		{`ep(?P<epoch>\d+).*L (?P<loss_val>\S+) A (?P<accuracy__top1_val>\S+)`, "ep7: L 0.5 A 91%",
			"epoch 7 [accuracy.top1.val:0.91 loss.val:0.5]"},
		{`loss (?P<loss>\S+)`, "loss 3\nnothing\nloss 2\nloss x", "step 1 [loss:3]|-|step 2 [loss:2]|-"},
		{`(?P<name>[a-z.]+) -> (?P<value>[0-9.]+)`, "epoch -> 3 loss.val -> 0.5 rate -> 0.1",
			"epoch 3 [loss.val:0.5 rate:0.1]"},
	} {
		f, err := New(c.pattern)
		require.NoError(t, err)
		var got []string
		for line := range strings.SplitSeq(c.lines, "\n") {
			got = append(got, say(f.Line(line)))
		}
		require.Equal(t, c.want, strings.Join(got, "|"), "%.80q", c.lines)
	}
}

func TestPatternsRefused(t *testing.T) {
	for pattern, says := range map[string]string{"(": "no regular expression", "loss": "names no curve",
		`(?P<epoch>\d+)`: "names no curve"} {
		_, err := New(pattern)
		require.ErrorContains(t, err, says)
	}
}

// Reading goes on from a place that was kept as if it had not been interrupted.
func TestGoingOn(t *testing.T) {
	lines := []string{"epoch 1 step 5 loss=1", "epoch 2 step 3 loss=2", "loss=3", "epoch 3 step 1 loss=4"}
	for cut := range lines {
		whole, err := New(Auto)
		require.NoError(t, err)
		parts, err := New(Auto)
		require.NoError(t, err)
		for i, line := range lines {
			if i == cut {
				again, err := New(Auto)
				require.NoError(t, err)
				again.Place = parts.Place
				parts = again
			}
			require.Equal(t, say(whole.Line(line)), say(parts.Line(line)))
		}
	}
}

func FuzzLine(f *testing.F) {
	f.Add("epoch 3 loss=0.5")
	f.Add(`{"a": {"b": NaN}}`)
	f.Fuzz(func(t *testing.T, line string) {
		finder, err := New(Auto)
		require.NoError(t, err)
		if r, ok := finder.Line("epoch 1 step 1 " + line); ok {
			require.LessOrEqual(t, len(r.Values), maxValues)
			require.NotNil(t, r.Step)
			require.False(t, math.IsNaN(*r.Epoch))
		}
	})
}
