package kembrel

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"runtime"
	"time"
)

// connectFirst connects to the recorder around the program. Where that has died since it started the program, another
// takes over its spool.
func (r *Run) connectFirst(ctx context.Context, socket string) error {
	err := r.connect(socket)
	spool := os.Getenv("KEMBREL_RECORDER_SPOOL")
	for until := time.Now().Add(backTime); err != nil && spool != "" && time.Now().Before(until) && ctx.Err() == nil; {
		var at string
		if at, _, err = startRecorder(ctx, "--adopt", spool); err == nil {
			err = r.connect(at)
		}
		if err != nil {
			time.Sleep(100 * time.Millisecond)
		}
	}
	return err
}

// connect opens the connection and waits for the welcome; messages that the recorder has not kept are sent again.
func (r *Run) connect(socket string) error {
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return fmt.Errorf("reach the recorder: %w", err)
	}
	hello := fmt.Sprintf(`{"kind":"hello","protocol":1,"hears":["named"],"language":"go %s"}`+"\n", runtime.Version())
	if _, err := conn.Write([]byte(hello)); err != nil {
		return err
	}
	conn.SetReadDeadline(time.Now().Add(answerTime))
	reader := bufio.NewReader(conn)
	text, err := reader.ReadBytes('\n')
	if err != nil {
		return fmt.Errorf("the recorder does not answer: %w", err)
	}
	conn.SetReadDeadline(time.Time{})
	var welcome reply
	if err := json.Unmarshal(text, &welcome); err != nil || welcome.Kind != "welcome" {
		return fmt.Errorf("the recorder does not welcome this program: %s", text)
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.conn, r.spool, r.address, r.socket, r.lost = conn, welcome.Folder, welcome.Run, socket, false
	r.resume, r.asked, r.evaluate = welcome.Resume, welcome.Asked, welcome.Evaluate
	r.pending.drop(welcome.Kept, r.unsettled)
	if _, err := conn.Write(r.pending.bytes()); err != nil {
		return err
	}
	go r.listen(conn, reader)
	return nil
}

// listen reads what the recorder says until the connection ends, then looks for another recorder.
func (r *Run) listen(conn net.Conn, reader *bufio.Reader) {
	for {
		text, err := reader.ReadBytes('\n')
		if err != nil {
			break
		}
		var m reply
		if json.Unmarshal(text, &m) != nil {
			continue
		}
		r.mutex.Lock()
		switch m.Kind {
		case "held":
			r.held = true
			r.failLocked(errors.New("the recorder says: " + m.What))
			r.settled.Broadcast()
			for id := range r.ending { // an end is not waited for then
				if c := r.replies[id]; c != nil {
					delete(r.replies, id)
					c <- m
				}
			}
		case "kept":
			r.held = false
			if r.unsettled[m.ID] { // a checkpoint takes longer than what is said after it
				r.pending.drop1(m.ID)
			} else {
				r.pending.drop(m.ID, r.unsettled)
			}
		case "problem":
			r.failLocked(errors.New("the recorder says: " + m.What))
			r.pending.drop1(m.ID)
		case "named":
			r.address = m.Run
		case "advice":
			r.stop = m.What
		}
		if m.Kind == "kept" || m.Kind == "problem" {
			delete(r.unsettled, m.ID)
			r.settled.Broadcast()
		}
		if c := r.replies[m.ID]; c != nil && m.ID != 0 {
			delete(r.replies, m.ID)
			c <- m
		}
		r.mutex.Unlock()
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	conn.Close()
	r.conn = nil
	for id, c := range r.replies {
		delete(r.replies, id)
		close(c)
	}
	if !r.ended {
		r.back = make(chan struct{})
		go r.takeUp(r.socket, r.back)
	}
}

// takeUpTries is how often a recorder is started in place of one that died before that is said, with growing pauses
// between: 12 s in all; latePause is how long a later try waits.
const (
	takeUpTries = 8
	latePause   = 10 * time.Second
)

// takeUp goes back to the recorder where only the connection was lost, or starts one that goes on with the spool of one
// that died; again and again, until the run has ended. What is said meanwhile waits here.
func (r *Run) takeUp(old string, back chan struct{}) {
	defer func() {
		if back != nil {
			close(back)
		}
	}()
	pause := 100 * time.Millisecond
	for try := 1; ; try++ {
		err := r.connect(old)
		if err != nil {
			var socket string
			if socket, _, err = startRecorder(context.Background(), "--adopt", r.spool); err == nil {
				err = r.connect(socket)
			}
		}
		if err == nil {
			return
		}
		r.mutex.Lock()
		ended := r.ended
		if try == takeUpTries {
			r.lost = true
			r.settled.Broadcast()
			r.failLocked(fmt.Errorf("the recorder is gone and another cannot take over yet; training goes on, "+
				"and what it says waits here: %w", err))
			close(back)
			back = nil
		}
		r.mutex.Unlock()
		if ended {
			return
		}
		if time.Sleep(pause); try >= takeUpTries {
			pause = latePause
		} else {
			pause = min(2*pause, 3*time.Second)
		}
	}
}

var errGone = errors.New("the recorder is gone")

// ask sends a message and waits for its answer.
func (r *Run) ask(compose func()) (reply, error) {
	answer := make(chan reply, 1)
	r.mutex.Lock()
	if back := r.back; r.conn == nil && back != nil { // a recorder is being started in place of one that died
		r.mutex.Unlock()
		select {
		case <-back:
		case <-time.After(backTime):
		}
		r.mutex.Lock()
	}
	if r.conn == nil {
		r.mutex.Unlock()
		return reply{}, errors.New("no recorder is connected")
	}
	compose()
	r.replies[r.id] = answer
	if r.ending[r.id] && r.held {
		delete(r.replies, r.id)
		answer <- reply{Kind: "held"}
	}
	r.finish(false)
	r.mutex.Unlock()
	select {
	case m, ok := <-answer:
		switch {
		case !ok:
			return m, errGone
		case m.Kind == "problem":
			return m, errors.New(m.What)
		}
		return m, nil
	case <-time.After(answerTime):
		return reply{}, errors.New("the recorder does not answer")
	}
}
