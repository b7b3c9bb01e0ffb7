package recorder

import (
	"encoding/json"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// unheard is where answers go that nobody reads.
func unheard(t *testing.T) *outbox {
	program, ours := net.Pipe()
	go io.Copy(io.Discard, program)
	out := newOutbox(ours)
	t.Cleanup(func() { out.close(); program.Close() })
	return out
}

// kinds are those of the records of a spool.
func kinds(t *testing.T, s *spool.Spool) (out []spool.Kind) {
	size, _ := s.Size()
	for r := s.Reader(); ; {
		record, err := r.Next(size)
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(t, err)
		out = append(out, record.Kind)
	}
}

// begun begins to hand something over and writes its file.
func begun(t *testing.T, s *spool.Spool, n *session, m protocol.Message, file string) string {
	before := map[string]bool{}
	for key := range n.open {
		before[key] = true
	}
	m.Do = "begin"
	require.NoError(t, n.handle(m, unheard(t)))
	settled(t, n)
	for key := range n.open {
		if !before[key] {
			path := filepath.Join(s.OpenFolder(key), file)
			require.NoError(t, os.WriteFile(path, []byte("{\"key\":\"a\"}\n"), 0o600))
			return key
		}
	}
	require.Fail(t, "nothing was begun")
	return ""
}

// settled waits until all that was handed over is durable.
func settled(t *testing.T, n *session) {
	require.Eventually(t, func() bool { return n.keeping.Load() == 0 }, 20*time.Second, time.Millisecond)
}

func aReading(step int64) protocol.Message {
	return protocol.Message{Kind: protocol.Readings, Names: []string{"loss.train"}, Batch: curve.Batch{
		Axis:    []curve.Point{{Step: step, Epoch: 1, Time: time.Now().UnixNano()}},
		Columns: []curve.Column{{Curve: 0, Rows: nil, Values: []float64{0.5}}}}}
}

// Items are made durable beside the readings: where the first reading is faster, training has begun in the spool only
// when all items that were handed over before it are there.
func TestTrainingBeginsBehindItsItems(t *testing.T) {
	s, n := aSession(t)
	item := func(use string) protocol.Message { return protocol.Message{Kind: protocol.Items, Use: use} }
	train := begun(t, s, n, item("train"), protocol.ItemsFile)
	val := begun(t, s, n, item("val"), protocol.ItemsFile)
	out := unheard(t)
	require.NoError(t, n.handle(protocol.Message{Kind: protocol.Items, Do: "commit", Key: train}, out))
	settled(t, n)
	require.NoError(t, n.handle(aReading(1), out))
	require.NotContains(t, kinds(t, s), spool.Training)
	require.NoError(t, n.handle(protocol.Message{Kind: protocol.Items, Do: "commit", Key: val}, out))
	settled(t, n)
	require.NoError(t, n.handle(aReading(2), out))
	require.Eventually(t, func() bool { return len(kinds(t, s)) == 5 }, 10*time.Second, time.Millisecond)
	want := []spool.Kind{spool.Items, spool.Readings, spool.Items, spool.Training, spool.Readings}
	require.Equal(t, want, kinds(t, s))
}

// What a program hands over at its very end stands in front of its end, however slow the disk is.
func TestTheEndStandsBehindWhatWasHandedOver(t *testing.T) {
	s, n := aSession(t)
	key := begun(t, s, n, protocol.Message{Kind: protocol.Checkpoint, Step: 3}, "weights.bin")
	require.NoError(t, n.handle(protocol.Message{Kind: protocol.Checkpoint, Do: "commit", Key: key,
		Files: []protocol.File{{Part: "weights", Path: "weights.bin"}}}, unheard(t)))
	r := &recording{spool: s, session: n}
	r.awaitKept()
	require.NoError(t, s.AppendEnd(spool.Ending{State: "failed"}, endTime))
	require.Equal(t, []spool.Kind{spool.Checkpoint, spool.End}, kinds(t, s))
}

// A sender that died between forgetting the items of one split and those of another does not make a snapshot of the
// rest.
func TestItemsOfASnapshotGoTogether(t *testing.T) {
	s, n := aSession(t)
	key := begun(t, s, n, protocol.Message{Kind: protocol.Items, Use: "val"}, protocol.ItemsFile)
	require.NoError(t, n.handle(protocol.Message{Kind: protocol.Items, Do: "commit", Key: key}, unheard(t)))
	settled(t, n)
	sent := &sender{spool: s}
	again, err := sent.madeBefore(key)
	require.NoError(t, err)
	require.False(t, again)
	sent.change(func(st *spool.State) { st.Snapshot = []string{"gone", key} })
	for range 2 {
		again, err = sent.madeBefore(key)
		require.NoError(t, err)
		require.True(t, again)
	}
	require.NoDirExists(t, s.KeptFolder(key))
	value, err := json.Marshal(s.State())
	require.NoError(t, err)
	require.Contains(t, string(value), key)
}
