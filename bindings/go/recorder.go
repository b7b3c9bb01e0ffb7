package kembrel

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

func findBinary() (string, error) {
	if binary := os.Getenv("KEMBREL_BINARY"); binary != "" {
		return binary, nil
	}
	binary, err := exec.LookPath("kembrel")
	if err != nil {
		return "", errors.New("no kembrel on the PATH (or set KEMBREL_BINARY)")
	}
	return binary, nil
}

// startRecorder starts a recorder beside this program and returns its socket and spool. The binary is $KEMBREL_BINARY,
// or kembrel on the PATH.
func startRecorder(ctx context.Context, arguments ...string) (socket, spool string, err error) {
	binary, err := findBinary()
	if err != nil {
		return "", "", fmt.Errorf("nothing is recorded: there is no recorder around, and %w to start one", err)
	}
	arguments = append([]string{"record", "--attach", strconv.Itoa(os.Getpid())}, arguments...)
	cmd := exec.Command(binary, append(append(arguments, "--"), os.Args...)...)
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = ownGroup() // what interrupts the program must not interrupt its recorder
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return "", "", fmt.Errorf("nothing is recorded: start a recorder: %w", err)
	}
	line := make(chan string, 1)
	go func() {
		text, _ := bufio.NewReader(out).ReadString('\n')
		line <- text
		cmd.Wait()
	}()
	select {
	case text := <-line:
		socket, spool, ok := strings.Cut(strings.TrimSpace(text), " ")
		if !ok {
			return "", "", errors.New("nothing is recorded: the recorder did not start")
		}
		return socket, spool, nil
	case <-ctx.Done():
		cmd.Process.Kill()
		return "", "", fmt.Errorf("nothing is recorded: the recorder did not start before: %w", context.Cause(ctx))
	case <-time.After(answerTime):
		cmd.Process.Kill()
		return "", "", errors.New("nothing is recorded: the recorder did not start in time")
	}
}

// queue holds messages until they are kept, oldest first.
type queue struct {
	text []byte
	list []entry
	from int // list[:from] and their bytes are dropped
	gone int // bytes dropped at the start of text
}

type entry struct {
	id   int64
	size int
}

// queueLimit bounds what waits for a recorder that keeps nothing, in bytes; the oldest goes first.
const queueLimit = 64 << 20

func (q *queue) add(id int64, line []byte) {
	for len(q.text)-q.gone+len(line) > queueLimit && q.from < len(q.list) {
		q.shift()
	}
	if q.gone > 1<<16 && q.gone > len(q.text)/2 {
		q.text = append(q.text[:0], q.text[q.gone:]...)
		q.list = append(q.list[:0], q.list[q.from:]...)
		q.from, q.gone = 0, 0
	}
	q.text = append(q.text, line...)
	q.list = append(q.list, entry{id, len(line)})
}

func (q *queue) shift() {
	q.gone += q.list[q.from].size
	q.from++
}

// drop forgets messages up to an id, but for those that are to stay.
func (q *queue) drop(id int64, stay map[int64]bool) {
	for q.from < len(q.list) && q.list[q.from].id <= id && !stay[q.list[q.from].id] {
		q.shift()
	}
	if q.from == len(q.list) || !stay[q.list[q.from].id] {
		return
	}
	for i := len(q.list) - 1; i > q.from; i-- { // behind one that stays
		if e := q.list[i]; e.id <= id && !stay[e.id] {
			q.drop1(e.id)
		}
	}
}

// drop1 forgets the one message that was refused, so that it is not sent again.
func (q *queue) drop1(id int64) {
	at := q.gone
	for i := q.from; i < len(q.list); i++ {
		if q.list[i].id == id {
			q.text = append(q.text[:at], q.text[at+q.list[i].size:]...)
			q.list = append(q.list[:i], q.list[i+1:]...)
			return
		}
		at += q.list[i].size
	}
}

// bytes are the messages that wait.
func (q *queue) bytes() []byte { return q.text[q.gone:] }
