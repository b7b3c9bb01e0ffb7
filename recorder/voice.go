package recorder

import (
	"fmt"
	"io"
	"time"
)

// voice writes lines for a person beside everything else: a terminal that is stopped, or a pipe that nobody reads,
// holds up neither the recorder nor the program. Where it is too far behind, lines are left out, and the next says
// how many.
type voice struct {
	lines   chan string
	flush   chan chan struct{}
	dropped chan int // holds the count of lines left out
}

// mostLines is how many lines may wait to be written.
const mostLines = 1000

// newVoice begins a voice; it ends with the process, as a write that never returns cannot be given up.
func newVoice(out io.Writer) *voice {
	v := &voice{make(chan string, mostLines), make(chan chan struct{}, 1), make(chan int, 1)}
	v.dropped <- 0
	go v.write(out)
	return v
}

func (v *voice) say(line string) {
	select {
	case v.lines <- line:
	default:
		v.dropped <- 1 + <-v.dropped
	}
}

func (v *voice) write(out io.Writer) {
	for {
		select {
		case line := <-v.lines:
			v.line(out, line)
		case done := <-v.flush:
			for len(v.lines) > 0 {
				v.line(out, <-v.lines)
			}
			close(done)
		}
	}
}

func (v *voice) line(out io.Writer, line string) {
	fmt.Fprintln(out, "kembrel:", line)
	n := <-v.dropped
	if n > 0 && len(v.lines) < mostLines/2 {
		fmt.Fprintf(out, "kembrel: %d more messages were left out\n", n)
		n = 0
	}
	v.dropped <- n
}

// wait returns when all is written that was said, or after a while.
func (v *voice) wait(most time.Duration) {
	done, late := make(chan struct{}), time.After(most)
	select {
	case v.flush <- done:
	case <-late:
		return
	}
	select {
	case <-done:
	case <-late:
	}
}
