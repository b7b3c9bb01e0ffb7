package recorder

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/plain"
	"kembrel/core/printed"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Programs that know nothing of the recorder are recorded by what they print: their output is followed in the spool's
// files, where it is drained to, and what is found goes the way of readings that a program says.

// printedPace is how often the files are looked at.
const printedPace = 100 * time.Millisecond

// printedReader finds readings in a program's output.
type printedReader struct {
	session *session
	spool   *spool.Spool
	out     *outbox
	at      spool.Printed
	finders [2]*printed.Finder
	partial [2][]byte // a line that has not ended
	skip    [2]bool   // it was too long; its rest is not read
	curves  map[string]bool
	found   int64 // lines with readings
	ending  chan struct{}
	done    chan struct{}
}

// newPrintedReader goes on where reading was interrupted, if it was.
func newPrintedReader(s *spool.Spool, n *session) (*printedReader, error) {
	r := &printedReader{session: n, spool: s, at: s.Printed(), curves: map[string]bool{}, ending: make(chan struct{}),
		done: make(chan struct{})}
	for i := range streams {
		f, err := printed.New(s.Leg.Recipe.ReadOutput)
		if err != nil {
			return nil, err
		}
		if f.Place = r.at.Place[i]; r.at.At[i] == 0 {
			n.mutex.Lock()
			f.Lines = n.lastStep // of the leg before
			n.mutex.Unlock()
		}
		r.finders[i] = f
	}
	nobody, conn := net.Pipe() // hears the answers
	go io.Copy(io.Discard, nobody)
	r.out = newOutbox(conn)
	return r, nil
}

// follow reads until the program has ended and all is read that it printed.
func (r *printedReader) follow() {
	defer close(r.done)
	defer r.out.close()
	for {
		over := false
		select {
		case <-r.ending:
			over = true
		case <-time.After(printedPace):
		}
		for i := range streams {
			r.read(i, over)
		}
		if over {
			if r.found == 0 && r.session.silent() {
				r.session.say("no readings were found in the program's output: see --read-output in kembrel record --help")
				r.session.remark("There are no readings: none were found in the program's output.")
			}
			return
		}
	}
}

// finish waits until all is read.
func (r *printedReader) finish() {
	close(r.ending)
	<-r.done
}

// read reads what came of a stream. A file that cannot be read costs itself, and is tried again.
func (r *printedReader) read(stream int, over bool) {
	f, err := os.Open(filepath.Join(r.spool.Folder, streams[stream]))
	if err != nil {
		return
	}
	defer f.Close()
	from := r.at.At[stream]
	buffer := make([]byte, 64<<10)
	for {
		n, err := f.ReadAt(buffer, r.at.At[stream]+int64(len(r.partial[stream])))
		r.take(stream, buffer[:n])
		if n == 0 || err != nil {
			break
		}
	}
	if over && len(r.partial[stream]) > 0 {
		r.take(stream, []byte{'\n'})
	}
	if r.at.At[stream] != from {
		r.at.Place[stream] = r.finders[stream].Place
		r.spool.SetPrinted(r.at) // where it cannot be noted, some lines are read twice after a crash
	}
}

// take takes bytes of a stream and reads the lines that are whole.
func (r *printedReader) take(stream int, data []byte) {
	for len(data) > 0 {
		end := bytes.IndexByte(data, '\n')
		piece := data
		if end >= 0 {
			piece = data[:end+1]
		}
		data = data[len(piece):]
		if r.partial[stream] = append(r.partial[stream], piece...); end >= 0 {
			if line := r.partial[stream]; !r.skip[stream] {
				r.line(stream, strings.ToValidUTF8(string(line), "\uFFFD"))
			}
			r.at.At[stream] += int64(len(r.partial[stream]))
			r.partial[stream], r.skip[stream] = r.partial[stream][:0], false
		} else if len(r.partial[stream]) > printed.MaxLine {
			r.at.At[stream] += int64(len(r.partial[stream]))
			r.partial[stream], r.skip[stream] = r.partial[stream][:0], true
		}
	}
}

// line gives the session what a line holds, as a program would say it.
func (r *printedReader) line(stream int, line string) {
	got, ok := r.finders[stream].Line(line)
	if !ok {
		return
	}
	r.found++
	values := make(map[string]api.Float, len(got.Values))
	for name, v := range got.Values {
		values[name] = api.Float(v)
	}
	said := struct {
		Kind   string               `json:"kind"`
		Step   *int64               `json:"step,omitempty"`
		Epoch  *float64             `json:"epoch,omitempty"`
		Values map[string]api.Float `json:"values"`
	}{protocol.Readings, got.Step, got.Epoch, values}
	text, err := json.Marshal(said)
	if err != nil {
		return // numbers and texts always marshal
	}
	m, err := protocol.Parse(text, time.Now())
	if err == nil {
		r.sayCurves(m.Names)
		err = r.session.handle(m, r.out)
	}
	if err != nil {
		r.session.problem(r.out, m, err)
	}
}

// sayCurves says which curves are found, once each.
func (r *printedReader) sayCurves(names []string) {
	var fresh []string
	for _, name := range names {
		if !r.curves[name] && len(r.curves) < mostSaid {
			r.curves[name] = true
			fresh = append(fresh, name)
		}
	}
	if len(fresh) > 0 {
		slices.Sort(fresh)
		r.session.say("reading from the output: %s", plain.Line(strings.Join(fresh, ", ")))
	}
}

// readRest reads what a recorder that died had not read of its program's output, into its spool.
func readRest(s *spool.Spool, say func(string, ...any)) error {
	if s.Leg.Recipe.ReadOutput == "" {
		return nil
	}
	n, err := newSession(s, say)
	if err != nil {
		return err
	}
	r, err := newPrintedReader(s, n)
	if err != nil {
		return err
	}
	go r.follow()
	r.finish()
	if r.found == 0 {
		return nil
	}
	return s.AppendNow(spool.Note, 0,
		api.NewNote{At: time.Now(),
			Text: fmt.Sprintf("The last readings (%s) were found in the output after the recorder was gone.",
				strings.Join(slices.Sorted(maps.Keys(r.curves)), ", "))})
}
