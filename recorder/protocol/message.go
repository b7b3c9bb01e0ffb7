// Package protocol is the language between a training program and its recorder, version 1: one JSON object a line over
// a Unix socket, both ways (docs/recorder-protocol.md). It parses what programs send, hostile or not, and imports api
// and core only.
package protocol

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"
	"unicode/utf8"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/curve"
	"kembrel/core/hyper"
	"kembrel/core/sheet"
)

// Version is the version of the protocol that this recorder speaks.
const Version = 1

// Variable is the environment variable that names the socket.
const Variable = "KEMBREL_RECORDER"

// SpoolVariable is the environment variable that names the recorder's spool, which another recorder adopts where the
// first has died before the program spoke with it.
const SpoolVariable = "KEMBREL_RECORDER_SPOOL"

// MaxPath is how long the path of a file is that is no checkpoint, in bytes.
const MaxPath = 1000

// MaxLine is the longest line, in bytes.
const MaxLine = 8 << 20

// The kinds of message from the program.
const (
	Hello      = "hello"
	Hyper      = "hyper"
	Readings   = "readings"
	Checkpoint = "checkpoint"
	NoteKind   = "note"
	End        = "end"
	Start      = "start"
	Taken      = "taken"
	Data       = "data"
	Items      = "items"
	Sheet      = "sheet"
	FileKind   = "file"
)

// Message is a line from the program, checked. Which fields are set depends on Kind.
type Message struct {
	Kind string
	ID   int64 // from 1 up, rising; 0: no answer is wanted

	Protocol int    // hello
	Language string // hello
	Rank     int    // hello: of several processes of one training; 0: the first, or the only one
	// hello: kinds of lines that come unasked and that it knows, of those which not all programs do: named
	Hears []string

	Hyper map[string]json.RawMessage
	Bad   map[string]error // hyper, readings: what is wrong with those that are not taken, by name

	Names   []string          // readings: the names of the batch's columns
	Renamed map[string]string // readings: what curves whose names are none are called instead (curve.Rename)
	Batch   curve.Batch

	Taken []string // names of asked hyperparameters whose value the program took

	Do    string // checkpoint: begin, join, commit or abandon; items, sheet, file: begin, commit or abandon
	Ranks int    // hello: how many processes record; checkpoint begin: how many hand over files; 0: this one alone
	Step  int64
	Epoch float64
	Why   string // checkpoint, end
	Key   string // checkpoint commit, abandon
	Files []File

	Says    api.ProgramSays // start
	Weights string          // start: path of a safetensors file with the starting weights

	// data, items: what is used for what. Of data Do is "" where Data names it, items where Keys and Digests are some
	// of what is handed over, and end behind the last of them; Count is then how many were.
	Use     string
	Data    string
	Keys    []string
	Digests []string
	Count   int64

	Answers sheet.Says // sheet begin
	Split   string     // sheet begin
	Path    string     // file begin

	Text  string // note
	State string // end
}

// File is a file of a part in a checkpoint.
type File struct {
	Part string `json:"part"`
	Path string `json:"path"`
}

// Reply is a line to the program.
type Reply struct {
	Kind       string `json:"kind"` // welcome, named, kept, held, folder, advice, problem
	ID         int64  `json:"id,omitempty"`
	Protocol   int    `json:"protocol,omitempty"`
	Run        string `json:"run,omitempty"`  // welcome, named: the address, if known by then
	Leg        int    `json:"leg,omitempty"`  // welcome
	Kept       int64  `json:"kept,omitempty"` // welcome: the last message kept, for who comes back
	Checkpoint string `json:"checkpoint,omitempty"`
	Items      string `json:"items,omitempty"`
	Sheet      string `json:"sheet,omitempty"`
	File       string `json:"file,omitempty"`
	Folder     string `json:"folder,omitempty"` // welcome: the spool; folder: where to write the checkpoint or sheet
	Stop       bool   `json:"stop,omitempty"`
	What       string `json:"what,omitempty"`

	Resume *Resume                    `json:"resume,omitempty"` // welcome: where to go on
	Asked  map[string]json.RawMessage `json:"asked,omitempty"`  // welcome: hyperparameters to take
	Verify string                     `json:"verify,omitempty"` // welcome: evaluate the model in this folder

	Evaluate *Evaluate `json:"evaluate,omitempty"` // welcome: the program is to evaluate, not to train
}

// Evaluate tells a program what to evaluate.
type Evaluate struct {
	Checkpoint string    `json:"checkpoint"` // its address
	Step       int64     `json:"step"`
	Epoch      api.Float `json:"epoch"`
	Data       string    `json:"data,omitempty"`
	Split      string    `json:"split,omitempty"`

	Folder string              `json:"folder"` // of its files
	Parts  map[string][]string `json:"parts"`  // files by part
}

// Resume tells a program where it goes on.
type Resume struct {
	From   string              `json:"from"` // address of the checkpoint
	Branch bool                `json:"branch,omitempty"`
	Step   int64               `json:"step"`
	Epoch  api.Float           `json:"epoch"`
	Folder string              `json:"folder"` // of the parts' files
	Parts  map[string][]string `json:"parts"`  // files by part
}

// Append appends the reply as a line.
func (r Reply) Append(dst []byte) []byte {
	text, err := json.Marshal(r)
	if err != nil {
		panic(err) // numbers and texts always marshal
	}
	return append(append(dst, text...), '\n')
}

type raw struct {
	Kind       string                     `json:"kind"`
	ID         int64                      `json:"id"`
	Protocol   int                        `json:"protocol"`
	Language   string                     `json:"language"`
	Hears      []string                   `json:"hears"`
	Values     map[string]json.RawMessage `json:"values"`
	Step       json.RawMessage            `json:"step"`
	Epoch      json.RawMessage            `json:"epoch"`
	Time       json.RawMessage            `json:"time"`
	Do         string                     `json:"do"`
	Why        string                     `json:"why"`
	Checkpoint string                     `json:"checkpoint"`
	Parts      map[string][]string        `json:"parts"`
	Text       string                     `json:"text"`
	State      string                     `json:"state"`
	Weights    string                     `json:"weights"`
	Seed       *int64                     `json:"seed"`
	Needs      []string                   `json:"needs"`
	Packages   map[string]string          `json:"packages"`
	Path       string                     `json:"path"`
	Names      []string                   `json:"names"`
	Rank       int                        `json:"rank"`
	Ranks      int                        `json:"ranks"`
	Use        string                     `json:"use"`
	Data       string                     `json:"data"`
	Keys       []string                   `json:"keys"`
	Digests    []string                   `json:"digests"`
	Count      int64                      `json:"count"`

	Items         string   `json:"items"`
	Sheet         string   `json:"sheet"`
	File          string   `json:"file"`
	Split         string   `json:"split"`
	Task          string   `json:"task"`
	Classes       []string `json:"classes"`
	Probabilities *bool    `json:"probabilities"`
	Files         []string `json:"files"`
}

// mostRanks is how many processes one training may have.
const mostRanks = 65_535

// Parse reads one line. Where the error is about the content, the message still carries Kind and ID, so that it can be
// answered. Memory is bounded by a small multiple of the line's length. now stands in for a time that the program did
// not give.
func Parse(line []byte, now time.Time) (Message, error) {
	var r raw
	if len(line) > MaxLine {
		return Message{}, fmt.Errorf("line of %d bytes is too long (at most %d)", len(line), MaxLine)
	}
	if !utf8.Valid(line) {
		return Message{}, fmt.Errorf("line is not valid UTF-8")
	}
	if err := json.Unmarshal(line, &r); err != nil {
		return Message{Kind: r.Kind}, fmt.Errorf("line is not a JSON object of this protocol: %w", err)
	}
	m := Message{Kind: r.Kind, ID: r.ID, Why: r.Why}
	if r.ID < 0 {
		return m, fmt.Errorf("id %d is not a whole number from 1 up", r.ID)
	}
	var err error
	switch r.Kind {
	case Hello:
		m.Protocol, m.Language, m.Hears = r.Protocol, r.Language, r.Hears
		if m.Rank, m.Ranks = r.Rank, r.Ranks; m.Rank < 0 || m.Rank >= mostRanks || m.Ranks < 0 || m.Ranks > mostRanks {
			err = fmt.Errorf("rank %d of %d is none of 0 to %d", r.Rank, r.Ranks, mostRanks-1)
		}
		if r.Protocol != Version {
			err = fmt.Errorf("this recorder speaks protocol %d, the program %d", Version, r.Protocol)
		}
	case Hyper:
		var bad map[string]error
		if m.Hyper, bad = hyper.Clean(r.Values); len(m.Hyper) > 0 || len(bad) == 0 {
			m.Bad = bad // they cost themselves only
		} else {
			for name, why := range bad {
				err = fmt.Errorf("hyperparameter %q is not kept: %w", name, why)
			}
		}
	case Taken:
		if m.Taken = r.Names; len(m.Taken) == 0 || len(m.Taken) > hyper.MaxCount {
			err = fmt.Errorf("taken has 1 to %d names", hyper.MaxCount)
		}
	case Readings:
		err = m.readings(r, now)
	case Checkpoint:
		err = m.checkpoint(r)
	case Start:
		err = m.start(r)
	case NoteKind:
		if m.Text = r.Text; len(m.Text) > 10000 || m.Text == "" {
			err = fmt.Errorf("a note has 1 to 10000 bytes of text")
		}
	case Data:
		err = m.data(r)
	case Items:
		err = m.items(r)
	case Sheet:
		err = m.sheet(r)
	case FileKind:
		err = m.file(r)
	case End:
		if m.State = r.State; m.State != "" && m.State != "finished" && m.State != "stopped" && m.State != "failed" {
			err = fmt.Errorf("state %.40q of end is none of finished, stopped, failed", m.State)
		}
		if len(m.Why) > 2000 {
			m.Why = m.Why[:2000]
		}
	default:
		err = fmt.Errorf("kind %.40q is none of hello, start, hyper, taken, readings, checkpoint, data, sheet, file, note, end",
			r.Kind)
	}
	return m, err
}

// start reads what the program says of itself.
func (m *Message) start(r raw) error {
	if r.Weights != "" && r.Weights != "fresh" && r.Weights != "trained" {
		return fmt.Errorf("weights %.40q of start is none of fresh, trained", r.Weights)
	}
	for _, part := range r.Needs {
		if err := checkpoint.CheckPart(part); err != nil {
			return err
		}
	}
	if len(r.Needs) > 100 || len(r.Packages) > 10000 {
		return fmt.Errorf("%d needs and %d packages are too many", len(r.Needs), len(r.Packages))
	}
	m.Says = api.ProgramSays{Language: r.Language, Packages: r.Packages, Needs: r.Needs}
	if m.Weights = r.Path; r.Weights != "" || r.Seed != nil || r.Path != "" {
		m.Says.Start = &api.Start{Weights: r.Weights, Seed: r.Seed}
	}
	return nil
}

func isList(text json.RawMessage) bool { return len(text) > 0 && text[0] == '[' }

// list makes a list of a list or of a single value.
func list(text json.RawMessage) ([]json.RawMessage, error) {
	if len(text) == 0 || bytes.Equal(text, []byte("null")) {
		return nil, nil
	}
	if !isList(text) {
		return []json.RawMessage{text}, nil
	}
	var out []json.RawMessage
	err := json.Unmarshal(text, &out)
	return out, err
}

// readings reads a point, or columns: lists for step, epoch and time, and for each curve a list as long, with null
// where it has no value.
func (m *Message) readings(r raw, now time.Time) error {
	steps, err1 := list(r.Step)
	epochs, err2 := list(r.Epoch)
	times, err3 := list(r.Time)
	if err1 != nil || err2 != nil || err3 != nil {
		return fmt.Errorf("step, epoch and time are numbers, or lists of numbers")
	}
	n := max(len(steps), len(epochs))
	if n == 0 {
		return fmt.Errorf("a reading needs a step, or an epoch that stands for it")
	}
	if len(r.Values) == 0 {
		return fmt.Errorf("readings without values")
	}
	if len(steps) != 0 && len(steps) != n || len(epochs) != 0 && len(epochs) != n ||
		len(times) != 0 && len(times) != n {
		return fmt.Errorf("%d steps, %d epochs and %d times do not fit together", len(steps), len(epochs), len(times))
	}
	axis := make([]curve.Point, n)
	for i := range axis {
		p := curve.Point{Epoch: math.NaN(), Time: now.UnixMilli()}
		if epochs != nil {
			v, err := api.ParseFloat(epochs[i])
			if err != nil {
				return fmt.Errorf("epoch: %w", err)
			}
			p.Epoch = v
		}
		if steps != nil {
			if err := json.Unmarshal(steps[i], &p.Step); err != nil || p.Step < 0 {
				return fmt.Errorf("step %.40s is not a whole number from 0 up", steps[i])
			}
		} else if p.Step = int64(p.Epoch); float64(p.Step) != p.Epoch {
			return fmt.Errorf("epoch %v is not whole, so it cannot stand for the step; give the step too", p.Epoch)
		}
		if times != nil {
			if err := json.Unmarshal(times[i], &p.Time); err != nil {
				return fmt.Errorf("time %.40s is not a whole number of milliseconds since 1970", times[i])
			}
		}
		axis[i] = p
	}
	columns := map[string]curve.Column{}
	m.Bad = map[string]error{}                // they cost themselves only
	for _, odd := range []bool{false, true} { // a name that is one goes before one that is made the same
		for name, text := range r.Values {
			to := curve.Rename(name)
			if odd == (to == name) {
				continue
			}
			c, err := column(text, n)
			switch _, taken := columns[to]; {
			case err != nil:
			case to == "":
				err = curve.CheckName(name)
			case taken:
				err = fmt.Errorf("it would be called %q, and that is there too", to)
			default:
				columns[to] = c
				if odd {
					if m.Renamed == nil {
						m.Renamed = map[string]string{}
					}
					m.Renamed[name] = to
				}
			}
			if err != nil {
				m.Bad[name] = err
			}
		}
	}
	if len(columns) == 0 {
		name := slices.Min(slices.Collect(maps.Keys(m.Bad)))
		return fmt.Errorf("curve %.100q: %w", name, m.Bad[name])
	}
	m.Names = slices.Sorted(maps.Keys(columns))
	m.Batch = curve.Batch{Axis: axis, Columns: make([]curve.Column, len(m.Names))}
	for i, name := range m.Names {
		m.Batch.Columns[i] = columns[name]
		m.Batch.Columns[i].Curve = i
	}
	return m.Batch.Check(0)
}

func column(text json.RawMessage, points int) (curve.Column, error) {
	values, err := list(text)
	if err != nil || len(values) != points {
		return curve.Column{}, fmt.Errorf("%d values for %d points", len(values), points)
	}
	c := curve.Column{Rows: make([]int, 0, points)}
	for i, text := range values {
		if bytes.Equal(text, []byte("null")) {
			continue
		}
		v, err := api.ParseFloat(text)
		if err != nil {
			return curve.Column{}, err
		}
		c.Rows, c.Values = append(c.Rows, i), append(c.Values, v)
	}
	if len(c.Rows) == points {
		c.Rows = nil
	}
	return c, nil
}
