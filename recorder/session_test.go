package recorder

import (
	"bufio"
	"encoding/json"
	"errors"
	"net"
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
