package recorder

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// rankProcess is one of several of a training, as the recorder sees it.
type rankProcess struct {
	t     *testing.T
	conn  net.Conn
	lines *bufio.Scanner
}

func (n *session) connect(t *testing.T, rank int) *rankProcess {
	program, ours := net.Pipe()
	go n.serve(ours)
	p := &rankProcess{t, program, bufio.NewScanner(program)}
	p.say(`{"kind":"hello","protocol":1,"rank":%d}`, rank)
	require.Equal(t, "welcome", p.hear().Kind)
	return p
}

func (p *rankProcess) say(format string, args ...any) {
	p.t.Helper()
	_, err := fmt.Fprintf(p.conn, format+"\n", args...)
	require.NoError(p.t, err)
}

func (p *rankProcess) hear() (r protocol.Reply) {
	p.t.Helper()
	require.True(p.t, p.lines.Scan())
	require.NoError(p.t, json.Unmarshal(p.lines.Bytes(), &r))
	return r
}

// told reads what a spool holds: readings as name@step=value, checkpoints as their files.
func told(t *testing.T, s *spool.Spool) (out []string) {
	size, _ := s.Size()
	for r := s.Reader(); ; {
		record, err := r.Next(size)
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(t, err)
		switch record.Kind {
		case spool.Readings:
			names, b, err := decodeReadings(record.Body)
			require.NoError(t, err)
			out = append(out, fmt.Sprintf("%s@%d=%v", names[0], b.Axis[0].Step, b.Columns[0].Values[0]))
		case spool.Checkpoint:
			var m spool.Manifest
			require.NoError(t, json.Unmarshal(record.Body, &m))
			for _, f := range m.Files {
				out = append(out, f.Part+" "+f.Path)
			}
		case spool.Note:
			out = append(out, string(record.Body))
		}
	}
}

// What ranks record is kept in the order of their steps, each by names of its own, whoever is ahead; one that is gone
// is not waited for.
func TestRanksInOrder(t *testing.T) {
	s, n := aSession(t)
	first, second := n.connect(t, 0), n.connect(t, 1)
	reading := func(p *rankProcess, id, step int, v float64) {
		p.say(`{"kind":"readings","id":%d,"step":%d,"values":{"loss.train":%v}}`, id, step, v)
	}
	reading(first, 1, 1, 0.1)
	require.Equal(t, int64(1), first.hear().ID)
	reading(second, 1, 1, 1.1)
	require.Equal(t, int64(1), second.hear().ID, "numbers are each process's own")
	reading(second, 2, 2, 1.2)
	reading(second, 3, 5, 1.5)
	reading(first, 2, 2, 0.2)
	reading(first, 3, 3, 0.3)
	reading(first, 4, 4, 0.4)
	require.Eventually(t, func() bool { return len(told(t, s)) == 6 }, 10*time.Second, time.Millisecond)
	reading(second, 4, 4, 1.4)
	for second.hear().Kind != "problem" {
	}
	second.say(`{"kind":"hyper","id":9,"values":{"lr":1}}`)
	require.Contains(t, second.hear().What, "rank 0 says that of the run")
	second.say(`{"kind":"note","id":10,"text":"behind them"}`)
	time.Sleep(50 * time.Millisecond)
	require.NotContains(t, strings.Join(told(t, s), "\n"), "behind them",
		"its reading of step 5 still waits, and what is kept is kept with all before it")
	second.conn.Close()
	reading(first, 5, 6, 0.6)
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(told(t, s), "\n"), "Rank 1: behind them") &&
			len(withoutNotes(told(t, s))) == 8
	}, 10*time.Second, time.Millisecond)
	require.Equal(t, []string{"loss.train@1=0.1", "rank1.loss.train@1=1.1", "rank1.loss.train@2=1.2",
		"loss.train@2=0.2", "loss.train@3=0.3", "loss.train@4=0.4",
		"rank1.loss.train@5=1.5", "loss.train@6=0.6"}, withoutNotes(told(t, s)))

	// A recorder that follows knows what was kept of each.
	again, err := newSession(s, func(string, ...any) {})
	require.NoError(t, err)
	require.Equal(t, map[int]int64{0: 5, 1: 10}, again.kept)
}

func withoutNotes(all []string) (out []string) {
	for _, text := range all {
		if !strings.HasPrefix(text, "{") {
			out = append(out, text)
		}
	}
	return out
}

// A rank that falls far behind costs the others nothing, and is seen on the run.
func TestALateRank(t *testing.T) {
	s, n := aSession(t)
	first, second := n.connect(t, 0), n.connect(t, 7)
	second.say(`{"kind":"readings","step":1,"values":{"a":1}}`)
	var lines strings.Builder
	for step := range orderRoom + 10 {
		fmt.Fprintf(&lines, `{"kind":"readings","step":%d,"values":{"a":2}}`+"\n", step+1)
	}
	_, err := io.WriteString(first.conn, lines.String())
	require.NoError(t, err)
	require.Eventually(t, func() bool { n.mutex.Lock(); defer n.mutex.Unlock(); return n.lastStep > 5 }, 20*time.Second,
		time.Millisecond, "it waits no longer than there is room")
	second.say(`{"kind":"readings","step":2,"values":{"a":3}}`)
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(told(t, s), "\n"),
			"Rank 7 is over 10s behind")
	}, 20*time.Second, 10*time.Millisecond)
}

// The files of all ranks become one checkpoint; a recorder that follows in the middle gathers on.
func TestRanksGather(t *testing.T) {
	s, n := aSession(t)
	first, second := n.connect(t, 0), n.connect(t, 1)
	second.say(`{"kind":"checkpoint","do":"join","id":1,"step":30}`)
	first.say(`{"kind":"checkpoint","do":"begin","id":1,"step":30,"ranks":2}`)
	begun, joined := first.hear(), second.hear()
	require.Equal(t, begun.Folder, joined.Folder)
	require.NoError(t, os.MkdirAll(filepath.Join(begun.Folder, "rank1"), 0o700))
	for _, name := range []string{"weights.safetensors", "rank1/weights.safetensors", "rank1/random.json"} {
		require.NoError(t, os.WriteFile(filepath.Join(begun.Folder, name), []byte("{}"), 0o600))
	}
	second.say(`{"kind":"checkpoint","do":"commit","id":2,"checkpoint":%q,"parts":{"weights":["weights.safetensors"]}}`,
		begun.Checkpoint)
	require.Contains(t, second.hear().What, "is not in the folder rank1")
	commit := `{"kind":"checkpoint","do":"commit","id":3,"checkpoint":%q,"parts":{"weights":["rank1/weights.safetensors"],"random":["rank1/random.json"]}}`
	second.say(commit, begun.Checkpoint)

	n, err := newSession(s, func(string, ...any) {})
	require.NoError(t, err)
	first, second = n.connect(t, 0), n.connect(t, 1)
	first.say(`{"kind":"checkpoint","do":"commit","id":2,"checkpoint":%q,"parts":{"weights":["weights.safetensors"]}}`,
		begun.Checkpoint)
	second.say(commit, begun.Checkpoint)
	require.Equal(t, "kept", first.hear().Kind)
	require.Equal(t, "kept", second.hear().Kind)
	require.ElementsMatch(t, []string{"weights weights.safetensors", "rank1-weights rank1/weights.safetensors",
		"rank1-random rank1/random.json"}, withoutNotes(told(t, s)))

	// One that does not come is seen on the run; one that was not asked is told.
	first.say(`{"kind":"checkpoint","do":"begin","id":4,"step":40,"ranks":3}`)
	third := first.hear()
	first.say(`{"kind":"checkpoint","do":"commit","id":5,"checkpoint":%q,"parts":{"weights":["weights.safetensors"]}}`,
		third.Checkpoint)
	require.Eventually(t, func() bool { n.mutex.Lock(); defer n.mutex.Unlock(); return len(n.gathers) == 1 },
		10*time.Second, time.Millisecond)
	n.sayUngathered()
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(told(t, s), "\n"),
			"The checkpoint of step 40 was not kept: these of its 3 ranks did not hand over their part: 1, 2.")
	}, 10*time.Second, time.Millisecond)
	first.say(`{"kind":"checkpoint","do":"begin","id":6,"step":50}`)
	first.hear()
	second.say(`{"kind":"checkpoint","do":"join","id":7,"step":50}`)
	require.Contains(t, second.hear().What, "without the other ranks")
}
