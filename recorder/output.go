package recorder

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"kembrel/host"
)

// The program writes its output into pipes, which a process of their own drains, so that it never meets a disk, waits
// for a terminal, or ends with the recorder. What is drained goes to the terminal and into files of the spool; where
// one of these takes nothing, it waits in memory up to a bound, beyond which the middle is left out and that is said in
// its place.

// DrainCommand is the hidden command by which the recorder starts the process that drains.
const DrainCommand = "drain-output"

// streams are the program's outputs, in the order of their files.
var streams = [2]string{"stdout", "stderr"}

// Limits of what waits for a taker that takes nothing, and of the last lines of output that go with a leg's end.
const (
	waitLimit = 4 << 20
	tailBytes = 8 << 10
	tailLines = 40
)

// taker hands bytes to a writer that may be slow, full or gone. put never waits.
type taker struct {
	to    io.Writer
	retry bool // try again what was refused; otherwise the writer is given up

	mutex sync.Mutex
	wake  *sync.Cond
	queue []byte // waits
	tail  []byte // the latest of what does not fit in
	left  int64  // bytes left out between the two
	ended bool
	done  chan struct{}
}

func newTaker(to io.Writer, retry bool) *taker {
	t := &taker{to: to, retry: retry, done: make(chan struct{})}
	t.wake = sync.NewCond(&t.mutex)
	go t.write()
	return t
}

func (t *taker) put(p []byte) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if len(t.tail) == 0 && t.left == 0 && len(t.queue)+len(p) <= waitLimit {
		t.queue = append(t.queue, p...)
		t.wake.Signal()
		return
	}
	t.tail = append(t.tail, p...)
	if over := len(t.tail) - waitLimit; over > waitLimit { // now and then, so that a flood costs one copy
		t.left += int64(over)
		t.tail = append(t.tail[:0], t.tail[over:]...)
	}
}

// end says that nothing more comes.
func (t *taker) end() {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.ended = true
	t.wake.Signal()
}

func (t *taker) write() {
	defer close(t.done)
	pause := 50 * time.Millisecond
	for {
		t.mutex.Lock()
		for len(t.queue) == 0 && len(t.tail) == 0 && !t.ended {
			t.wake.Wait()
		}
		if len(t.queue) == 0 && len(t.tail) > 0 {
			if over := len(t.tail) - waitLimit; t.left > 0 && over > 0 {
				t.left += int64(over)
				t.tail = t.tail[over:]
			}
			if t.left > 0 {
				t.queue = fmt.Appendf(t.queue,
					"\n[kembrel: %d bytes of output are left out here: they could not be kept]\n", t.left)
			}
			t.queue, t.tail, t.left = append(t.queue, t.tail...), nil, 0
		}
		data := t.queue
		if len(data) > 1<<20 {
			data = data[:1<<20]
		}
		t.mutex.Unlock()
		if len(data) == 0 {
			return
		}
		n, err := t.to.Write(data)
		t.mutex.Lock()
		if t.queue = t.queue[n:]; len(t.queue) == 0 {
			t.queue = nil
		}
		t.mutex.Unlock()
		switch {
		case err == nil:
			pause = 50 * time.Millisecond
		case !t.retry:
			t.mutex.Lock()
			t.queue, t.tail, t.left = nil, nil, 0
			t.mutex.Unlock()
			t.to = io.Discard
		default:
			time.Sleep(pause)
			pause = min(2*pause, time.Second)
		}
	}
}

// Drained is what the draining process says once the program has ended: the last of each stream.
type Drained struct {
	Tail [2][]byte `json:"tail"` // standard and error output
}

// Drain drains two pipes into files of a folder and to writers until both have ended. When control says so, the program
// has ended: it reads what is there already, says so on told, and from then on only keeps those that still write from
// being ended by a broken pipe.
func Drain(folder string, pipes [2]*os.File, outputs [2]io.Writer, control io.Reader, told io.Writer) {
	over := make(chan struct{})
	go func() {
		if n, _ := control.Read(make([]byte, 1)); n == 1 {
			close(over)
		}
	}()
	var last Drained
	var reading sync.WaitGroup
	var takers []*taker
	for i, pipe := range pipes {
		mine := []*taker{newTaker(outputs[i], false)}
		if file, err := os.OpenFile(filepath.Join(folder, streams[i]), os.O_CREATE|os.O_WRONLY|os.O_APPEND,
			0o600); err == nil {
			mine = append(mine, newTaker(file, true))
		}
		takers = append(takers, mine...)
		take := func(data []byte) {
			for _, t := range mine {
				t.put(data)
			}
			last.Tail[i] = append(last.Tail[i], data...)
			last.Tail[i] = last.Tail[i][max(0, len(last.Tail[i])-tailBytes):]
		}
		reading.Go(func() {
			buffer := make([]byte, 64<<10)
			for {
				n, err := pipe.Read(buffer)
				take(buffer[:n])
				// on a busy machine this may be the first time that anything is read
				if errors.Is(err, os.ErrDeadlineExceeded) {
					takeRest(pipe, buffer, take)
				}
				if err != nil {
					return
				}
			}
		})
	}
	read := make(chan struct{})
	go func() { reading.Wait(); close(read) }()
	select {
	case <-read: // both ends are closed: nobody can write any more
	case <-over:
		for _, pipe := range pipes {
			pipe.SetReadDeadline(time.Now().Add(100 * time.Millisecond)) // a child of the program may go on writing
		}
		<-read
	}
	patience := time.After(5 * time.Second)
	for _, t := range takers {
		t.end()
		select {
		case <-t.done:
		case <-patience:
		}
	}
	json.NewEncoder(told).Encode(last)
	for _, pipe := range pipes {
		pipe.SetReadDeadline(time.Time{})
		io.Copy(io.Discard, pipe)
	}
}

// mostHeld is how much a pipe holds at most, in bytes, on a system that is not told otherwise (pipe(7)).
const mostHeld = 1 << 20

// takeRest takes what a pipe holds and waits for nothing.
func takeRest(pipe *os.File, buffer []byte, take func([]byte)) {
	pipe.SetReadDeadline(time.Time{})
	for held := 0; held < mostHeld; {
		n, err := host.ReadNow(pipe, buffer)
		if n == 0 || err != nil {
			return
		}
		held += n
		take(buffer[:n])
	}
}

// DrainHere is what the draining process does: its pipes are the files 3 and 4, control is its standard input, and what
// it says goes to file 5.
func DrainHere(folder string) {
	signal.Ignore(syscall.SIGPIPE, syscall.SIGINT, syscall.SIGHUP, syscall.SIGTERM)
	var pipes [2]*os.File
	for i := range pipes {
		pipes[i] = host.Inherited(3+i, streams[i])
	}
	Drain(folder, pipes, [2]io.Writer{os.Stdout, os.Stderr}, os.Stdin, os.NewFile(5, "told"))
}

// drains are the pipes of a program and the process that drains them; where that process is ended by something else,
// another follows.
type drains struct {
	folder  string
	outputs [2]io.Writer
	read    [2]*os.File
	write   [2]*os.File // for the program
	mutex   sync.Mutex
	control *os.File
	over    bool
	told    chan Drained
}

func newDrains(folder string, outputs [2]io.Writer) (*drains, error) {
	d := &drains{folder: folder, outputs: outputs, told: make(chan Drained, 1)}
	for i := range streams {
		var err error
		if d.read[i], d.write[i], err = os.Pipe(); err != nil {
			return nil, fmt.Errorf("make a pipe for the program's output: %w", err)
		}
	}
	go d.watch()
	return d, nil
}

// watch has somebody drain the pipes until the program has ended and what it wrote is read.
func (d *drains) watch() {
	for {
		last, err := d.start()
		if err == nil {
			d.told <- last
			return
		}
		d.mutex.Lock()
		over := d.over
		d.mutex.Unlock()
		if over {
			d.told <- last
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// start starts a process that drains and waits for what it says at the end. Where none can be started this one drains
// itself.
func (d *drains) start() (last Drained, err error) {
	var ends [4]*os.File
	for i := 0; i < len(ends) && err == nil; i += 2 {
		ends[i], ends[i+1], err = os.Pipe()
	}
	if err != nil {
		return last, err
	}
	controlled, control, tells, told := ends[0], ends[1], ends[2], ends[3]
	defer tells.Close()
	d.mutex.Lock()
	d.control = control
	if d.over {
		control.Write([]byte{1})
	}
	d.mutex.Unlock()
	path, err := os.Executable()
	if err == nil {
		cmd := exec.Command(path, DrainCommand, d.folder)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = controlled, os.Stdout, os.Stderr
		cmd.ExtraFiles = []*os.File{d.read[0], d.read[1], told}
		host.OwnSession(cmd) // what ends the recorder's group is not meant for it
		if err = cmd.Start(); err == nil {
			go cmd.Wait()
		}
	}
	if err != nil {
		go func() {
			Drain(d.folder, d.read, d.outputs, controlled, told)
			told.Close()
		}()
	} else {
		controlled.Close()
		told.Close()
	}
	line, err := bufio.NewReader(tells).ReadBytes('\n')
	if err != nil {
		return last, errors.New("the process that drains the program's output is gone")
	}
	return last, json.Unmarshal(line, &last)
}

// handedOver closes the program's ends here: it has its own.
func (d *drains) handedOver() {
	for _, f := range d.write {
		f.Close()
	}
}

// end says that the program has ended, waits for what it wrote last, and returns the last lines of its error output, or
// of its output where there is none.
func (d *drains) end() string {
	d.mutex.Lock()
	d.over = true
	if d.control != nil {
		d.control.Write([]byte{1})
	}
	d.mutex.Unlock()
	select {
	case last := <-d.told:
		if text := lastLines(last.Tail[1]); text != "" {
			return text
		}
		return lastLines(last.Tail[0])
	case <-time.After(10 * time.Second):
		return ""
	}
}

func lastLines(data []byte) string {
	for len(data) > 0 && !utf8.RuneStart(data[0]) {
		data = data[1:]
	}
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	return strings.Join(lines[max(0, len(lines)-tailLines):], "\n")
}

func isTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }
