// Package kembrel records a training run from a Go program. Three lines are enough:
//
//	run, err := kembrel.Record(ctx, kembrel.Options{Project: "vessels", Hyper: map[string]any{"lr": 0.03}})
//	run.Readings(step, epoch, kembrel.V("loss.train", loss), kembrel.V("loss.val", valLoss))
//	run.End(kembrel.Finished, "")
//
// Under `kembrel record -- PROGRAM` it speaks to that recorder; otherwise it starts one. Training never waits for the
// service and never fails because of recording: what goes wrong is printed once to the error output and told by Err,
// and every call may be made on a run that is not recorded, whatever error came back before. With Options.Forgiving no
// call returns an error at all. It speaks the protocol of docs/recorder-protocol.md and needs nothing but the standard
// library; its tests neither, so that a program which takes this module takes nothing else.
package kembrel

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Options say what the run is. Project and Title count only where no recorder is around yet.
type Options struct {
	Project string
	Title   string
	Hyper   map[string]any // numbers, booleans, texts, lists of these; dotted names nest
	Resume  string         // a run or checkpoint to go on with, where no recorder is around: "vessels/4"

	Weights string   // what the weights are before training: "fresh" or "trained"; "" does not say
	Seed    *int64   // of the random weights
	Needs   []string // parts of a checkpoint that resuming needs; nil: weights, optimiser, random

	Forgiving bool // calls return no errors: what went wrong is told by Err, and by the run's page where it can be
}

// State is how a run ended.
type State string

// The ways in which a program may end: all done, asked to end early, or gone wrong.
const (
	Finished State = "finished"
	Stopped  State = "stopped"
	Failed   State = "failed"
)

// Value is one reading.
type Value struct {
	Curve string // measure and split, such as "loss.val"
	Value float64
}

// V makes a reading: V("loss.val", 0.41).
func V(curve string, value float64) Value { return Value{curve, value} }

// Run is the run being recorded. Its methods may be called from many goroutines.
type Run struct {
	forgiving bool // of the options
	mutex     sync.Mutex
	conn      net.Conn
	line      []byte
	id        int64
	pending   queue // messages not answered kept, for a recorder that takes over from one that died
	replies   map[int64]chan reply
	spool     string
	err       error
	stop      string
	address   string
	ended     bool
	resume    *Resume
	asked     map[string]json.RawMessage
	evaluate  *evaluating
	saver     *saver
	ending    map[int64]bool // messages that say the end
	unsettled map[int64]bool // commits of checkpoints that are not answered
	settled   *sync.Cond
	lost      bool          // no recorder is there, and waiting for one is in vain
	held      bool          // the recorder keeps things in memory: its disk takes nothing
	socket    string        // of the recorder last connected
	back      chan struct{} // closed when the attempt to take up a dead recorder's spool is over
}

type reply struct {
	Kind       string `json:"kind"`
	ID         int64  `json:"id"`
	Run        string `json:"run"`
	Kept       int64  `json:"kept"`
	Checkpoint string `json:"checkpoint"`
	Items      string `json:"items"`
	Sheet      string `json:"sheet"`
	File       string `json:"file"`
	Folder     string `json:"folder"`
	Stop       bool   `json:"stop"`
	What       string `json:"what"`

	Resume   *Resume                    `json:"resume"`
	Asked    map[string]json.RawMessage `json:"asked"`
	Evaluate *evaluating                `json:"evaluate"`
}

// backTime is how long a call waits for another recorder in place of one that died.
const backTime = 5 * time.Second

// answerTime is how long a call waits for the recorder where it needs its answer.
const answerTime = 30 * time.Second

// over says that a run of this process has ended. The recorder around the program had that one; another run gets a
// recorder of its own.
var over atomic.Bool

// Record begins the recording. The run is never nil, and its calls may be made whatever went wrong; err says why
// nothing is recorded. When ctx is done the run is asked to stop (Stop, Epochs), as by a signal.
func Record(ctx context.Context, o Options) (*Run, error) {
	r := newRun(o.Forgiving)
	socket := os.Getenv("KEMBREL_RECORDER")
	if over.Load() { // a run was recorded there before: this is another
		socket = ""
	}
	var err error
	if socket == "" {
		project := o.Project
		if project == "" {
			project = os.Getenv("KEMBREL_PROJECT")
		}
		arguments := []string{"--project", project, "--title", o.Title}
		if o.Resume != "" {
			arguments = []string{"--resume", o.Resume}
		}
		if socket, _, err = startRecorder(ctx, arguments...); err == nil {
			err = r.connect(socket)
		}
	} else {
		err = r.connectFirst(ctx, socket)
	}
	if err != nil {
		r.fail(err)
		return r, r.forgive(err)
	}
	context.AfterFunc(ctx, func() {
		r.askToStop("The program's context is done (" + context.Cause(ctx).Error() + ").")
	})
	if o.Weights != "" || o.Seed != nil || o.Needs != nil {
		r.InitialWeights(o.Weights, o.Seed, o.Needs, nil)
	}
	if len(o.Hyper) > 0 {
		r.Hyper(o.Hyper)
	}
	return r, r.forgive(r.Err())
}

func newRun(forgiving bool) *Run {
	r := &Run{forgiving: forgiving, replies: map[int64]chan reply{}, unsettled: map[int64]bool{}}
	r.settled = sync.NewCond(&r.mutex)
	return r
}

// forgive is what a call returns for an error that is noted.
func (r *Run) forgive(err error) error {
	if r.forgiving {
		return nil
	}
	return err
}

// askToStop advises the program to stop, where nobody did before.
func (r *Run) askToStop(why string) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.stop == "" {
		r.stop = why
	}
}

// fail notes what went wrong and prints the first of it.
func (r *Run) fail(err error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.failLocked(err)
}

func (r *Run) failLocked(err error) {
	if r.err == nil {
		fmt.Fprintf(os.Stderr, "kembrel: %v\n", err)
	}
	r.err = err
}

// Err is the latest thing that went wrong with the recording, or nil.
func (r *Run) Err() error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	return r.err
}

// Address is the run's address, such as "vessels/3", or "" as long as it is not known, as when the service is away.
func (r *Run) Address() string {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	return r.address
}

// Stop says whether the program is advised to stop, and why.
func (r *Run) Stop() (why string, stop bool) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	return r.stop, r.stop != ""
}

// Hyper records hyperparameters; it must come before the first reading.
func (r *Run) Hyper(values map[string]any) {
	text, err := json.Marshal(values)
	if err != nil {
		r.fail(fmt.Errorf("hyperparameters: %w", err))
		return
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.begin("hyper")
	r.line = append(append(r.line, `,"values":`...), text...)
	r.finish(true)
}

// begin starts a message; the mutex is held.
func (r *Run) begin(kind string) {
	r.id++
	r.line = append(append(r.line[:0], `{"kind":"`...), kind...)
	r.line = strconv.AppendInt(append(r.line, `","id":`...), r.id, 10)
}

// finish ends a message and hands it to the recorder with one write; what must survive the recorder is remembered until
// kept.
func (r *Run) finish(remember bool) {
	r.line = append(r.line, '}', '\n')
	if remember {
		r.pending.add(r.id, r.line)
	}
	if r.conn == nil {
		return
	}
	if _, err := r.conn.Write(r.line); err != nil {
		r.conn.Close() // listen notices, and looks for another recorder
	}
}

// Readings records values at a step and epoch (NaN where there are no epochs). Steps never fall. NaN and infinities are
// values.
func (r *Run) Readings(step int64, epoch float64, values ...Value) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.saver != nil {
		r.saver.see(values)
	}
	r.begin("readings")
	r.line = strconv.AppendInt(append(r.line, `,"step":`...), step, 10)
	r.line = appendFloat(append(r.line, `,"epoch":`...), epoch)
	r.line = strconv.AppendInt(append(r.line, `,"time":`...), time.Now().UnixMilli(), 10)
	r.line = append(r.line, `,"values":{`...)
	for i, v := range values {
		if i > 0 {
			r.line = append(r.line, ',')
		}
		r.line = append(appendText(r.line, v.Curve), ':')
		r.line = appendFloat(r.line, v.Value)
	}
	r.line = append(r.line, '}')
	r.finish(true)
}

// appendText appends text as JSON; plain names without the cost of the general way.
func appendText(dst []byte, text string) []byte {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			quoted, _ := json.Marshal(text)
			return append(dst, quoted...)
		}
	}
	return append(append(append(dst, '"'), text...), '"')
}

func appendFloat(dst []byte, v float64) []byte {
	switch {
	case math.IsNaN(v):
		return append(dst, `"NaN"`...)
	case math.IsInf(v, 1):
		return append(dst, `"Infinity"`...)
	case math.IsInf(v, -1):
		return append(dst, `"-Infinity"`...)
	}
	return strconv.AppendFloat(dst, v, 'g', -1, 64)
}

// Note leaves a line of text on the run.
func (r *Run) Note(text string) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.begin("note")
	r.line = appendText(append(r.line, `,"text":`...), text)
	r.finish(true)
}

// Checkpoint saves a checkpoint: write is given a folder, writes files into it, and returns which files make up which
// part. The files are the recorder's from then on: it sees to it that they are safe on disk, and sends them in the
// background. Settle waits for the former; what goes wrong later is told by Err.
func (r *Run) Checkpoint(step int64, epoch float64, why string,
	write func(folder string) (parts map[string][]string, err error)) error {
	err := r.checkpoint(step, epoch, why, write)
	if err != nil {
		r.fail(err)
	}
	return r.forgive(err)
}

func (r *Run) checkpoint(step int64, epoch float64, why string,
	write func(folder string) (parts map[string][]string, err error)) error {
	return r.handOver("checkpoint", func() {
		r.line = strconv.AppendInt(append(r.line, `,"step":`...), step, 10)
		r.line = appendFloat(append(r.line, `,"epoch":`...), epoch)
		r.line = appendText(append(r.line, `,"why":`...), why)
	}, func(folder string) (string, any, error) {
		parts, err := write(folder)
		return "parts", parts, err
	})
}

// handOver hands over a checkpoint, a prediction sheet, items or a file: it asks for a folder, saying what for, has its
// files written, and says which they are, as a field of the last message.
func (r *Run) handOver(kind string, say func(), write func(folder string) (field string, files any, err error)) error {
	begin := func() (reply, error) {
		return r.ask(func() {
			r.begin(kind)
			r.line = append(r.line, `,"do":"begin"`...)
			say()
		})
	}
	begun, err := begin()
	if errors.Is(err, errGone) { // another may be taking its place
		begun, err = begin()
	}
	if err != nil {
		return fmt.Errorf("begin %s: %w", kind, err)
	}
	field, files, err := write(begun.Folder)
	var text []byte
	if err == nil {
		text, err = json.Marshal(files)
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	end := func(do string) {
		r.begin(kind)
		r.line = appendText(append(r.line, `,"do":`...), do)
		r.line = appendText(append(append(append(r.line, `,"`...), kind...), `":`...),
			begun.Checkpoint+begun.Items+begun.Sheet+begun.File)
	}
	if err != nil {
		end("abandon")
		r.line = appendText(append(r.line, `,"why":`...), "it could not be written: "+strings.ReplaceAll(err.Error(),
			begun.Folder+"/", ""))
		r.finish(true)
		return fmt.Errorf("write %s: %w", kind, err)
	}
	end("commit")
	r.line = append(append(append(append(r.line, `,"`...), field...), `":`...), text...)
	r.unsettled[r.id] = true
	r.finish(true)
	return nil
}

// settleTime is how long Settle waits for a recorder that says nothing of a checkpoint.
const settleTime = 10 * time.Minute

// Settle waits until all checkpoints handed over are safe on disk, or it is clear that they are not.
func (r *Run) Settle() error {
	late := false
	timer := time.AfterFunc(settleTime, func() {
		r.mutex.Lock()
		defer r.mutex.Unlock()
		late = true
		r.settled.Broadcast()
	})
	defer timer.Stop()
	r.mutex.Lock()
	defer r.mutex.Unlock()
	for len(r.unsettled) > 0 && !r.lost && !late && !r.held {
		r.settled.Wait()
	}
	if len(r.unsettled) > 0 && r.err == nil {
		r.failLocked(errors.New("the recorder does not say whether the latest checkpoint is kept"))
	}
	return r.forgive(r.err)
}

// End says how the program ends, and why. It waits until everything handed over is safe on disk, but not for the
// service; err is what went wrong in the recording.
func (r *Run) End(state State, why string) error {
	r.Settle()
	_, err := r.ask(func() {
		r.begin("end")
		r.line = appendText(append(r.line, `,"state":`...), string(state))
		r.line = appendText(append(r.line, `,"why":`...), why)
		r.ending = map[int64]bool{r.id: true}
	})
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.ended = true
	over.Store(true)
	if err != nil && r.err == nil {
		r.failLocked(fmt.Errorf("end: %w", err))
	}
	if r.conn != nil {
		r.conn.Close()
	}
	return r.forgive(r.err)
}
