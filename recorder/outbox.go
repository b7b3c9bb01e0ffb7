package recorder

import (
	"errors"
	"net"
	"os"
	"sync"
	"time"

	"kembrel/recorder/protocol"
)

// outbox writes replies to a program without ever waiting for it.
type outbox struct {
	conn       net.Conn
	mutex      sync.Mutex
	wake       *sync.Cond
	lines      []byte
	kept       int64 // message up to which kept is to be answered; 0: nothing
	ended      bool
	gone       bool // the program reads no more: what it said before is still to be read
	hearsNamed bool // guarded by the session's mutex
	rank       int  // of the process, as its hello says; guarded likewise
}

// outboxLimit bounds what a program that reads no replies can make the recorder hold; more is dropped.
const outboxLimit = 4 << 20

func newOutbox(conn net.Conn) *outbox {
	o := &outbox{conn: conn}
	o.wake = sync.NewCond(&o.mutex)
	go o.write()
	return o
}

func (o *outbox) put(r protocol.Reply) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if !o.ended && len(o.lines) < outboxLimit {
		o.lines = r.Append(o.lines)
		o.wake.Signal()
	}
}

// keptUpTo answers kept for this message and those before it, with one line for all that became durable together.
func (o *outbox) keptUpTo(id int64) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.kept = id
	o.wake.Signal()
}

// close ends the connection once what is to be answered is written.
func (o *outbox) close() {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.ended = true
	o.wake.Signal()
	if o.gone {
		o.conn.Close()
	}
}

func (o *outbox) write() {
	for {
		o.mutex.Lock()
		for len(o.lines) == 0 && o.kept == 0 && !o.ended {
			o.wake.Wait()
		}
		lines := o.lines
		if o.kept > 0 {
			lines = protocol.Reply{Kind: "kept", ID: o.kept}.Append(lines)
		}
		o.lines, o.kept = nil, 0
		o.mutex.Unlock()
		if len(lines) == 0 {
			o.conn.Close()
			return
		}
		o.conn.SetWriteDeadline(time.Now().Add(10 * time.Second))
		if _, err := o.conn.Write(lines); err != nil {
			o.giveUp(err)
			return
		}
	}
}

// giveUp ends the writing. A program that is gone may have left much behind that is not read yet, so the connection
// stays until that is; one that lives and takes nothing is to connect anew, and to say again what was not answered.
func (o *outbox) giveUp(err error) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.gone = true
	if o.ended || errors.Is(err, os.ErrDeadlineExceeded) {
		o.conn.Close()
	}
	o.ended = true
}
