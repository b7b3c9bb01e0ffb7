package kembrel

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// recorder is the other end of the socket, as far as a test wants to play it; the stories use the real one.
type recorder struct {
	listener net.Listener
	conn     net.Conn
	lines    *bufio.Reader
}

func listen(t *testing.T) *recorder {
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	over.Store(false) // of the tests before
	t.Setenv("KEMBREL_RECORDER", path)
	t.Setenv("KEMBREL_BINARY", "/nonexistent/kembrel")
	t.Cleanup(func() { l.Close() })
	return &recorder{listener: l}
}

// record is a run that the recorder has welcomed.
func record(t *testing.T) *Run {
	run, err := Record(t.Context(), Options{})
	require.NoError(t, err)
	return run
}

// welcome takes a connection and answers its hello.
func (r *recorder) welcome() { r.welcomeWith(`"run":"vessels/3"`) }

func (r *recorder) welcomeWith(what string) {
	r.conn, _ = r.listener.Accept()
	r.lines = bufio.NewReader(r.conn)
	r.next()
	r.say(`{"kind":"welcome",` + what + `}`)
}

func (r *recorder) say(line string) { fmt.Fprintln(r.conn, line) }

func (r *recorder) next() map[string]any {
	line, err := r.lines.ReadString('\n')
	if err != nil {
		return nil
	}
	var m map[string]any
	if json.Unmarshal([]byte(line), &m) != nil {
		return map[string]any{"kind": "not JSON: " + line}
	}
	return m
}

func TestMessagesAreValidWhateverIsInThem(t *testing.T) {
	r := listen(t)
	go r.welcome()
	run, err := Record(t.Context(), Options{})
	require.NoError(t, err)
	require.Equal(t, "vessels/3", run.Address())
	run.Hyper(map[string]any{"lr": 0.03, "layers": []int{384, 6}})
	run.Readings(40, math.NaN(), V("loss.val", math.NaN()), V("a\"b\\\x07ü", math.Inf(-1)), V("x", 1e-300))
	run.Note("line\nbreak \"quoted\"")
	require.Equal(t, "hyper", r.next()["kind"])
	m := r.next()
	require.Equal(t, "readings", m["kind"])
	require.Equal(t, map[string]any{"loss.val": "NaN", "a\"b\\\aü": "-Infinity", "x": 1e-300}, m["values"])
	require.Equal(t, "line\nbreak \"quoted\"", r.next()["text"])
}

func TestAnswers(t *testing.T) {
	r := listen(t)
	folder := t.TempDir()
	go func() {
		r.welcome()
		for m := r.next(); m != nil; m = r.next() {
			id := int(m["id"].(float64))
			switch {
			case m["do"] == "begin" && m["step"] == 1.0:
				r.say(fmt.Sprintf(`{"kind":"folder","id":%d,"checkpoint":"k","folder":%q}`, id, folder))
			case m["do"] == "begin":
				r.say(fmt.Sprintf(`{"kind":"problem","id":%d,"what":"no room"}`, id))
			default:
				r.say(fmt.Sprintf(`{"kind":"kept","id":%d}`, id))
			}
		}
	}()
	run := record(t)
	wrote := ""
	require.NoError(t, run.Checkpoint(1, 1, "best so far", func(f string) (map[string][]string, error) {
		wrote = f
		return map[string][]string{"weights": {"w"}}, nil
	}))
	require.Equal(t, folder, wrote)
	require.ErrorContains(t, run.Checkpoint(2, 1, "", nil), "no room")
	full := func(string) (map[string][]string, error) { return nil, errors.New("disk full") }
	require.ErrorContains(t, run.Checkpoint(1, 1, "", full), "disk full")
	run.forgiving = true
	require.NoError(t, run.Checkpoint(1, 1, "", full))
	require.ErrorContains(t, run.Err(), "disk full")
	_, stop := run.Stop()
	require.False(t, stop)
	r.say(`{"kind":"advice","stop":true,"what":"another recorder has the leg"}`)
	require.Eventually(t, func() bool {
		why, stop := run.Stop()
		return stop && strings.Contains(why, "another recorder")
	}, 5*time.Second, 5*time.Millisecond)
	require.NoError(t, run.End(Finished, ""))
}

// Without any recorder every call returns at once and training goes on; a program that has asked for it sees no error.
func TestNoRecorder(t *testing.T) {
	t.Setenv("KEMBREL_RECORDER", "")
	t.Setenv("KEMBREL_BINARY", "/nonexistent/kembrel")
	for _, forgiving := range []bool{false, true} {
		run, err := Record(t.Context(), Options{Project: "vessels", Forgiving: forgiving})
		require.ErrorContains(t, run.Err(), "nothing is recorded")
		require.Equal(t, forgiving, err == nil)
		run.Readings(1, 1, V("loss.val", 1))
		run.Note("x")
		require.Equal(t, forgiving, run.Checkpoint(1, 1, "", nil) == nil)
		require.Equal(t, forgiving, run.End(Finished, "") == nil)
	}
}

// A program whose context is done is asked to stop, and its epochs end.
func TestContextDone(t *testing.T) {
	r := listen(t)
	go r.welcome()
	ctx, cancel := context.WithCancelCause(t.Context())
	defer cancel(nil)
	run, err := Record(ctx, Options{})
	require.NoError(t, err)
	var epochs []int
	for epoch := range run.Epochs(5) {
		if epochs = append(epochs, epoch); epoch == 2 {
			cancel(errors.New("the tide is out"))
			require.Eventually(t, func() bool { _, stop := run.Stop(); return stop }, 5*time.Second, time.Millisecond)
		}
	}
	require.Equal(t, []int{1, 2}, epochs)
	why, _ := run.Stop()
	require.Equal(t, "The program's context is done (the tide is out).", why)
}

// A recorder that never says where it is does not outlast the program's patience.
func TestRecorderThatDoesNotStart(t *testing.T) {
	binary := filepath.Join(t.TempDir(), "kembrel")
	require.NoError(t, os.WriteFile(binary, []byte("#!/bin/sh\nexec sleep 60\n"), 0o700))
	t.Setenv("KEMBREL_RECORDER", "")
	t.Setenv("KEMBREL_BINARY", binary)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	began := time.Now()
	_, err := Record(ctx, Options{})
	require.ErrorContains(t, err, "nothing is recorded: the recorder did not start before: context deadline exceeded")
	require.True(t, time.Since(began) < answerTime/2)
}

func TestQueue(t *testing.T) {
	q := queue{}
	for i := range int64(5) {
		q.add(i+1, fmt.Appendf(nil, "%d;", i+1))
	}
	q.drop(2, nil)
	require.Equal(t, "3;4;5;", string(q.bytes()))
	q.drop1(4)
	require.Equal(t, "3;5;", string(q.bytes()))
	q.drop1(99)
	q.drop(5, nil)
	require.Equal(t, 0, len(q.bytes()))
	line := make([]byte, 1<<20)
	for i := range int64(100) {
		q.add(i+10, line)
	}
	require.True(t, len(q.bytes()) <= queueLimit, "bounded")
	q.drop(109, nil)
	require.Equal(t, 0, len(q.bytes()))
}
