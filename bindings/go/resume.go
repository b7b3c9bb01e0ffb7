package kembrel

import (
	"encoding/json"
	"fmt"
	"iter"
	"math"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// Resume says where a program goes on: the step and epoch of a checkpoint, and the folder that its parts are in.
type Resume struct {
	From   string              `json:"from"`   // address of the checkpoint, such as "vessels/4@e12"
	Branch bool                `json:"branch"` // as a new run, with changed values perhaps
	Step   int64               `json:"step"`
	Epoch  float64             `json:"-"` // NaN where the program that saved it did not say
	Folder string              `json:"folder"`
	Parts  map[string][]string `json:"parts"` // files in the folder, by part
}

// UnmarshalJSON reads the recorder's form, in which the epoch may be "NaN".
func (r *Resume) UnmarshalJSON(text []byte) error {
	type plain Resume
	var raw struct {
		plain
		Epoch json.RawMessage `json:"epoch"`
	}
	if err := json.Unmarshal(text, &raw); err != nil {
		return err
	}
	*r = Resume(raw.plain)
	if json.Unmarshal(raw.Epoch, &r.Epoch) != nil {
		r.Epoch = math.NaN()
	}
	return nil
}

// File is the path of a part's only file, or "" where the part was not given or has several.
func (r Resume) File(part string) string {
	if files := r.Parts[part]; len(files) == 1 {
		return filepath.Join(r.Folder, filepath.FromSlash(files[0]))
	}
	return ""
}

// Resumed says where the program is to go on; ok is false where it is to start afresh.
func (r *Run) Resumed() (resume Resume, ok bool) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.resume == nil {
		return Resume{}, false
	}
	return *r.resume, true
}

// Take puts the value that was asked for a hyperparameter, as by kembrel branch --hyper, into what into points to, and
// reports whether there was one: it is recorded as the one used. What is asked and never taken is shown as such. A
// value of another kind is told by Err.
func (r *Run) Take(name string, into any) bool {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	text, ok := r.asked[name]
	if !ok {
		return false
	}
	if err := json.Unmarshal(text, into); err != nil {
		r.failLocked(fmt.Errorf("hyperparameter %s was asked to be %s: %w", name, text, err))
		return false
	}
	r.begin("taken")
	r.line = append(appendText(append(r.line, `,"names":[`...), name), ']')
	r.finish(true)
	return true
}

// Epochs are the epochs to train, from 1 to last; where the run goes on from a checkpoint, those behind it. It ends
// early when the program should stop (Stop). A checkpoint within an epoch counts as one of that epoch: the epoch is
// begun again.
func (r *Run) Epochs(last int) iter.Seq[int] {
	return func(yield func(int) bool) {
		first := 1
		if from, ok := r.Resumed(); ok && !math.IsNaN(from.Epoch) {
			first = max(1, int(math.Floor(from.Epoch))+1)
		}
		for epoch := first; epoch <= last; epoch++ {
			if _, stop := r.Stop(); stop || !yield(epoch) {
				return
			}
		}
	}
}

// InitialWeights tells what the weights are before training: "fresh", with the seed that they were drawn by, or
// "trained"; and which parts of a checkpoint resuming needs (nil: weights, optimiser, random). write, if given, writes
// the weights as a safetensors file, of which a digest is taken, so that it is known where they come from. It comes
// before the first reading.
func (r *Run) InitialWeights(weights string, seed *int64, needs []string, write func(path string) error) {
	path := ""
	if write != nil {
		f, err := os.CreateTemp("", "kembrel-start-*.safetensors")
		if err == nil {
			path = f.Name()
			f.Close()
			err = write(path)
		}
		if err != nil {
			r.fail(fmt.Errorf("starting weights: %w", err))
			path = ""
		}
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.begin("start")
	if weights != "" {
		r.line = appendText(append(r.line, `,"weights":`...), weights)
	}
	if seed != nil {
		r.line = strconv.AppendInt(append(r.line, `,"seed":`...), *seed, 10)
	}
	if needs != nil {
		text, _ := json.Marshal(needs)
		r.line = append(append(r.line, `,"needs":`...), text...)
	}
	if path != "" {
		r.line = appendText(append(r.line, `,"path":`...), path)
	}
	r.finish(true)
}

// Policy says when Save saves.
type Policy struct {
	Epochs float64 // every so many epochs; 0: not
	Steps  int64   // every so many steps; 0: not
	Best   string  // whenever this curve has beaten its best: "loss.val lower"; "": not
	Margin float64 // by at least so much
	Signal bool    // once more when the program is asked to end (SIGINT, SIGTERM); Stop then says so
}

// saver remembers when was last saved.
type saver struct {
	Policy
	mutex     sync.Mutex
	curve     string
	sign      float64 // of what is better: 1 lower, -1 higher
	best      float64
	beaten    bool
	lastEpoch float64
	lastStep  int64
	saved     int64
	asked     string // by which signal the program is asked to end
}

// SaveWhen sets when Save saves. A signal that asks the program to end, where Signal is set, is taken once: a second
// one ends it at once.
func (r *Run) SaveWhen(when Policy) {
	s := &saver{Policy: when, best: math.NaN(), saved: -1}
	curve, direction, _ := strings.Cut(when.Best, " ")
	s.curve, s.sign = curve, 1
	if direction == "higher" {
		s.sign = -1
	}
	if from, ok := r.Resumed(); ok {
		s.lastStep, s.saved = from.Step, from.Step
		if !math.IsNaN(from.Epoch) {
			s.lastEpoch = from.Epoch
		}
	}
	r.mutex.Lock()
	r.saver = s
	r.mutex.Unlock()
	if when.Signal {
		signals := make(chan os.Signal, 1)
		signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
		go func() {
			name := (<-signals).String()
			signal.Stop(signals)
			s.mutex.Lock()
			s.asked = name
			s.mutex.Unlock()
			r.askToStop("The program was asked to end (" + name + ").")
		}()
	}
}

// see follows the curve by which the best is known.
func (s *saver) see(values []Value) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, v := range values {
		if v.Curve == s.curve && s.curve != "" && !math.IsNaN(v.Value) &&
			(math.IsNaN(s.best) || s.sign*(s.best-v.Value) > s.Margin) {
			s.best, s.beaten = v.Value, true
		}
	}
}

// passed reports whether a multiple of the epochs was passed, so that a run which goes on from any checkpoint saves
// where one that was not cut off does.
func (s *saver) passed(epoch float64) bool {
	return s.Epochs > 0 && math.Floor(epoch/s.Epochs) > math.Floor(s.lastEpoch/s.Epochs)
}

// due says why to save now, or "".
func (s *saver) due(step int64, epoch float64, stopping bool) (why string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	switch {
	case step == s.saved:
		return ""
	case s.asked != "":
		why = "asked to end (" + s.asked + ")"
	case s.beaten:
		why = "best so far"
	case s.passed(epoch):
		why = fmt.Sprintf("every %v epochs", s.Epochs)
	case s.Steps > 0 && step/s.Steps > s.lastStep/s.Steps:
		why = fmt.Sprintf("every %d steps", s.Steps)
	case stopping:
		why = "about to stop"
	default:
		return ""
	}
	s.saved, s.beaten = step, false
	if s.passed(epoch) {
		s.lastEpoch = epoch
	}
	if s.Steps > 0 && step/s.Steps > s.lastStep/s.Steps {
		s.lastStep = step
	}
	return why
}

// Save saves a checkpoint, as Checkpoint does, where what SaveWhen has set says that it is time, or the program is
// about to stop; always where SaveWhen was not called. Call it where the program's state is whole: at the end of a step
// or an epoch, behind its readings.
func (r *Run) Save(step int64, epoch float64, write func(folder string) (parts map[string][]string,
	err error)) (saved bool, err error) {
	r.mutex.Lock()
	s, stop := r.saver, r.stop
	r.mutex.Unlock()
	why := ""
	if s != nil {
		if why = s.due(step, epoch, stop != ""); why == "" {
			return false, nil
		}
	}
	return true, r.Checkpoint(step, epoch, why, write)
}
