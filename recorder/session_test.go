package recorder

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// aSession is one of a new spool.
func aSession(t testing.TB) (*spool.Spool, *session) {
	s, err := spool.Make(t.TempDir(), spool.Leg{Project: "vessels", RunKey: uuid.NewString(), LegKey: uuid.NewString(),
		Started: time.Now()})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	n, err := newSession(s, func(string, ...any) {})
	require.NoError(t, err)
	return s, n
}

// Whatever the recorder has to tell, the first that a program hears is its welcome: the run may be named, and its disk
// full, while it connects.
func TestTheWelcomeComesFirst(t *testing.T) {
	_, n := aSession(t)
	program, ours := net.Pipe()
	defer program.Close()
	go n.serve(ours)
	require.Eventually(t, func() bool { n.mutex.Lock(); defer n.mutex.Unlock(); return len(n.programs) == 1 },
		10*time.Second, time.Millisecond)
	n.room(errors.New("no space"))
	n.named("vessels/7", 1)
	n.advise("another leg goes on")
	go program.Write([]byte(`{"kind":"hello","protocol":1,"hears":["named"]}` + "\n"))
	lines := bufio.NewScanner(program)
	for _, want := range []string{"welcome", "held", "advice"} {
		require.True(t, lines.Scan())
		var r protocol.Reply
		require.NoError(t, json.Unmarshal(lines.Bytes(), &r))
		require.Equal(t, want, r.Kind)
		if want == "welcome" {
			require.Equal(t, "vessels/7", r.Run)
		}
	}
	go n.named("vessels/8", 1)
	require.True(t, lines.Scan())
	require.JSONEq(t, `{"kind":"named","run":"vessels/8","leg":1}`, lines.Text())
}

// A program that ends reads no more answers; what it said before is read all the same.
func TestWhatIsSaidByOneThatReadsNothing(t *testing.T) {
	s, n := aSession(t)
	at := filepath.Join(t.TempDir(), "s")
	listener, err := net.Listen("unix", at)
	require.NoError(t, err)
	defer listener.Close()
	program, err := net.Dial("unix", at)
	require.NoError(t, err)
	lines := `{"kind":"hello","protocol":1}` + "\n"
	for step := 1; step <= 2000; step++ { // more than is read at once
		lines += fmt.Sprintf(`{"kind":"readings","id":%d,"step":%[1]d,"values":{"loss.val":%[1]d}}`+"\n", step)
	}
	_, err = program.Write([]byte(lines))
	require.NoError(t, err)
	require.NoError(t, program.Close())
	ours, err := listener.Accept()
	require.NoError(t, err)
	n.serve(slowly{ours})
	require.Eventually(t, func() bool { return len(told(t, s)) == 2000 }, 10*time.Second, 10*time.Millisecond)
	_, err = ours.Read(make([]byte, 1))
	require.ErrorIs(t, err, net.ErrClosed)
}

// slowly is a connection of which little is read at a time.
type slowly struct{ net.Conn }

func (s slowly) Read(p []byte) (int, error) {
	time.Sleep(100 * time.Microsecond)
	return s.Conn.Read(p[:min(len(p), 256)])
}

// What a program said before its end is read to its end, however long the disk takes over it; a child that keeps the
// connection and says nothing is not waited for.
func TestWhatWasSaidBeforeTheEndIsRead(t *testing.T) {
	for _, child := range []bool{false, true} {
		s, n := aSession(t)
		path := t.TempDir() + "/socket"
		socket, err := net.Listen("unix", path)
		require.NoError(t, err)
		s.Leg.Socket = path
		said := make(chan string, 10)
		r := &recording{spool: s, session: n, socket: socket,
			voice: newVoice(writerTo(func(text string) { said <- text }))}
		go r.accept()
		program, err := net.Dial("unix", path)
		require.NoError(t, err)
		n.mutex.Lock() // as one that makes a checkpoint durable does
		_, err = program.Write([]byte(`{"kind":"readings","id":1,"step":1,"values":{"loss.val":0.5}}` + "\n" +
			`{"kind":"readings","id":2,"step":2,"values":{"loss.val":0.4}}` + "\n"))
		require.NoError(t, err)
		if !child {
			program.Close()
		}
		require.Eventually(t, func() bool { return n.busy.Load() > 0 }, 10*time.Second, time.Millisecond)
		gone := make(chan struct{})
		go func() { r.hangUp(); close(gone) }()
		select {
		case <-gone:
			require.Fail(t, "hung up on what was being worked at")
		case <-time.After(longestQuiet + 500*time.Millisecond):
		}
		n.mutex.Unlock()
		<-gone
		n.mutex.Lock()
		require.EqualValues(t, 2, n.readings)
		n.mutex.Unlock()
		if child {
			require.Contains(t, <-said, "a child of the program keeps its connection")
			program.Close()
		}
		r.conns.Wait()
	}
}

type writerTo func(text string)

func (w writerTo) Write(p []byte) (int, error) {
	w(string(p))
	return len(p), nil
}
