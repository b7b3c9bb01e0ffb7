package kembrel

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"os"
)

// Evaluation is what kembrel evaluate, or kembrel verify, asks a program to evaluate, and where it says what it found.
// What it embeds says where the checkpoint's files are: From is its address, File the path of a part.
type Evaluation struct {
	Resume
	Data  string // what to evaluate on, such as hydrophone#3:test, as it was asked for; "": it was not
	Split string // of it, such as test, where that is known
	run   *Run
}

// evaluating is the recorder's form of it.
type evaluating struct {
	resume      Resume
	data, split string
}

// UnmarshalJSON reads it.
func (e *evaluating) UnmarshalJSON(text []byte) error {
	var told struct {
		Checkpoint, Data, Split string
	}
	if err := errors.Join(json.Unmarshal(text, &told), json.Unmarshal(text, &e.resume)); err != nil {
		return err
	}
	e.resume.From, e.data, e.split = told.Checkpoint, told.Data, told.Split
	return nil
}

// ErrNoEvaluation says that a program is not run by kembrel evaluate.
var ErrNoEvaluation = errors.New("this program is not run by kembrel evaluate: what it finds goes nowhere")

// Evaluate asks what to evaluate. The evaluation is never nil, and its calls may be made whatever went wrong; without
// kembrel evaluate around the program its Folder is "" and err is ErrNoEvaluation.
func Evaluate(ctx context.Context) (*Evaluation, error) {
	e := &Evaluation{run: newRun(true), Resume: Resume{Epoch: math.NaN()}}
	e.run.ended, e.run.err = true, ErrNoEvaluation // it is returned, and said no more
	if os.Getenv("KEMBREL_RECORDER") == "" {
		return e, ErrNoEvaluation
	}
	run, err := Record(ctx, Options{})
	if err != nil {
		return e, err
	}
	run.mutex.Lock()
	defer run.mutex.Unlock()
	if run.evaluate == nil { // the recorder of a training, of which this says nothing
		run.ended = true
		run.conn.Close()
		return e, ErrNoEvaluation
	}
	e.Resume, e.Data, e.Split, e.run = run.evaluate.resume, run.evaluate.data, run.evaluate.split, run
	return e, nil
}

// Figures says figures, by measure or by measure and split: V("accuracy", 0.93). Of one that is said again the last
// counts.
func (e *Evaluation) Figures(values ...Value) { e.run.Readings(0, math.NaN(), values...) }

// Predictions hands over the model's answers, as Run.Predictions does. The split is that which is evaluated where none
// is given; the moment is that of the checkpoint.
func (e *Evaluation) Predictions(p Predictions) error {
	if p.Split == "" {
		p.Split = e.Split
	}
	if p.Split == "" {
		p.Split = "val"
	}
	p.Step, p.Epoch = 0, math.NaN()
	return e.run.Predictions(p)
}

// Note leaves a line of text on the evaluation.
func (e *Evaluation) Note(text string) { e.run.Note(text) }

// End says that all is said. It waits until what was handed over is safe on disk.
func (e *Evaluation) End() { e.run.End(Finished, "") }
