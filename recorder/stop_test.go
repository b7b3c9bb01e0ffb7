package recorder

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// A stop rule that is set in the middle is applied to all that the spool holds, and the program is answered meanwhile.
func TestANewStopRuleHoldsUpNobody(t *testing.T) {
	s, n := aSession(t)
	const before, points = 400, 2000
	step := int64(0)
	for range before { // large enough that reading it takes a good while
		axis, values := make([]curve.Point, points), make([]float64, points)
		for i := range axis {
			step++
			axis[i], values[i] = curve.Point{Step: step, Epoch: float64(step), Time: step}, 1/float64(step)
		}
		names := make([]string, 20)
		b := curve.Batch{Axis: axis, Columns: make([]curve.Column, len(names))}
		for c := range names {
			names[c] = fmt.Sprintf("loss.part%d", c)
			b.Columns[c] = curve.Column{Curve: c, Values: values}
		}
		names[7] = "loss.val"
		n.mutex.Lock()
		require.NoError(t, n.keepReadings(protocol.Message{Kind: protocol.Readings, Names: names, Batch: b},
			newOutboxOfNobody()))
		n.mutex.Unlock()
	}
	out := newOutboxOfNobody()
	rule := &verdict.StopRule{Patience: 1e9}
	objective := api.Objective{Curve: "loss.val", Direction: "lower"}
	n.follow(&api.LegNews{Objective: objective, Rule: rule})
	meanwhile := 0
	for replaying := true; replaying; {
		step++
		require.NoError(t, n.handle(protocol.Message{Kind: protocol.Readings, Names: []string{"loss.val"},
			Batch: curve.Batch{Axis: []curve.Point{{Step: step, Epoch: float64(step), Time: step}},
				Columns: []curve.Column{{Values: []float64{1 / float64(step)}}}}}, out))
		n.mutex.Lock()
		if replaying = n.stop.live != nil; replaying {
			meanwhile++
		}
		n.mutex.Unlock()
	}
	require.Greater(t, meanwhile, 0)
	n.mutex.Lock()
	defer n.mutex.Unlock()
	require.EqualValues(t, step, n.stop.watch.Readings) // none missed, none twice
	require.EqualValues(t, step, n.stop.watch.Best.Step)
	require.Nil(t, s.Stuck())
}

// A disk that is slow, or gone, while a checkpoint is begun holds up no readings: the answer comes beside them.
func TestBeginningACheckpointHoldsUpNobody(t *testing.T) {
	s, n := aSession(t)
	require.NoError(t, os.RemoveAll(s.Folder+"/open"))
	require.NoError(t, os.WriteFile(s.Folder+"/open", nil, 0o600)) // nothing can be made in it
	out := newOutboxOfNobody()
	m := protocol.Message{Kind: protocol.Checkpoint, Do: "begin", Step: 1, ID: 4}
	require.NoError(t, n.handle(m, out))
	require.Eventually(t, func() bool { return len(replies(out)) == 1 }, 10*time.Second, time.Millisecond)
	require.Equal(t, "problem", replies(out)[0].Kind)
	require.EqualValues(t, 4, replies(out)[0].ID)
	require.NoError(t, os.Remove(s.Folder+"/open"))
	require.NoError(t, n.handle(m, out)) // the step is free again
	require.Eventually(t, func() bool { return len(replies(out)) == 2 }, 10*time.Second, time.Millisecond)
	require.Equal(t, "folder", replies(out)[1].Kind)
	require.NoError(t, n.spool.AppendNow(spool.Note, 0, nil))
}

func replies(o *outbox) (out []protocol.Reply) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	for line := range bytes.Lines(o.lines) {
		var r protocol.Reply
		if json.Unmarshal(line, &r) == nil {
			out = append(out, r)
		}
	}
	return out
}

// newOutboxOfNobody keeps what it would write.
func newOutboxOfNobody() *outbox {
	o := &outbox{}
	o.wake = sync.NewCond(&o.mutex)
	return o
}
