package recorder

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Variables that a program which evaluates is given: the folder of the restored files, and the data.
const (
	FolderVariable = "KEMBREL_VERIFY_FOLDER"
	DataVariable   = "KEMBREL_EVALUATE_DATA"
)

// Evaluating says what is evaluated.
type Evaluating struct {
	Run        api.RunInput
	Checkpoint *api.Checkpoint
	Folder     string     // of its files
	Data       string     // hydrophone#3:test, or what the run used data for; "": it is not said
	Split      string     // of it, where that is known
	Verify     *api.Float // largest difference to what was recorded that counts as the same; nil: it is not compared
}

// Evaluate runs a program that evaluates a checkpoint under a recorder, and tells the service what it found: figures,
// prediction sheets, notes. Where the service is away they wait in the spool, and evaluation is nil. A program that
// ends with another code than 0 has found nothing.
func Evaluate(ctx context.Context, o Options, e Evaluating, command []string) (*api.Evaluation, int, error) {
	folder, err := socketFolder(o)
	if err != nil {
		return nil, 0, err
	}
	defer os.RemoveAll(folder)
	leg := spool.Leg{Service: o.Service, Project: e.Run.Project, Number: e.Run.Number, LegKey: uuid.NewString(),
		Started: time.Now(), Socket: filepath.Join(folder, "s"),
		Evaluation: &spool.Evaluation{At: e.Checkpoint.Fixed(), Epoch: e.Checkpoint.Epoch, Data: e.Data, Split: e.Split,
			Verify: e.Verify}}
	leg.Recipe.Host, _ = os.Hostname()
	leg.Recipe.Command, _ = withholdCommand(command)
	s, _, err := spool.MakeSomewhere(o.Roots, leg)
	if err != nil {
		return nil, 0, err
	}
	r := newRecording(o, s)
	if r.session, err = newSession(s, r.say); err != nil {
		return nil, 0, errors.Join(err, s.Remove())
	}
	r.session.evaluate = &protocol.Evaluate{Checkpoint: e.Checkpoint.Address, Step: e.Checkpoint.Step,
		Epoch: e.Checkpoint.Epoch, Folder: e.Folder, Data: e.Data, Split: e.Split, Parts: map[string][]string{}}
	for _, f := range e.Checkpoint.Files {
		r.session.evaluate.Parts[f.Part] = append(r.session.evaluate.Parts[f.Part], f.Path)
	}
	if r.socket, err = net.Listen("unix", s.Leg.Socket); err != nil {
		return nil, 0, errors.Join(fmt.Errorf("listen for the program: %w", err), s.Remove())
	}
	go r.accept()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, o.Out, o.Err
	cmd.Env = append(os.Environ(), protocol.Variable+"="+s.Leg.Socket, protocol.SpoolVariable+"=",
		FolderVariable+"="+e.Folder,
		DataVariable+"="+e.Data)
	before := versions(ctx, ".", o.Keep)
	if err = cmd.Start(); err == nil {
		r.noteProgram(cmd.Process.Pid)
		err = cmd.Wait()
	}
	r.hangUp()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return nil, 0, errors.Join(fmt.Errorf("cannot start %q: %w", command[0], err), s.Remove())
	}
	if code := cmd.ProcessState.ExitCode(); code != 0 || ctx.Err() != nil {
		return nil, cmp.Or(code, 130), s.Remove()
	}
	r.session.keepMatched(ctx, ".", o.Keep, before)
	r.session.sayRefused()
	n := r.session
	n.mutex.Lock()
	nothing := len(n.figures) == 0 && len(n.done) == 0
	n.mutex.Unlock()
	if nothing {
		return nil, 0,
			errors.Join(errors.New("it said nothing: neither a figure nor predictions; let it speak to the recorder as training does (docs/evaluations.md)"),
				s.Remove())
	}
	if err := s.AppendEnd(spool.Ending{State: "finished", At: time.Now()}, endTime); err != nil {
		r.say("the spool's disk takes nothing (%v); what waits in memory is sent from there", withoutPath(err))
	}
	r.over.Store(true)
	r.sender = remainsSender(s, o, r.say)
	sending, cancel := context.WithCancel(context.WithoutCancel(ctx))
	r.cancel = cancel
	defer cancel()
	go func() { r.sending <- r.sender.send(sending) }()
	err = r.awaitSent()
	if e.Verify != nil && r.sender.evaluation == nil && errors.Is(err, errRefused) {
		return nil, 0, errors.Join(errors.Unwrap(err), s.Remove()) // it cannot be compared, now or later
	}
	r.close(err)
	if err != nil {
		return nil, 0, errUnsent
	}
	return r.sender.evaluation, 0, nil
}

// errUnsent says that an evaluation waits in the spool, of which more was said.
var errUnsent = errors.New("what was found is not with the service yet")

// evaluated is what a spool holds of an evaluation.
type evaluated struct {
	figures map[string]api.Float
	notes   []string
	handed  []spool.Manifest // sheets and files
	ended   *time.Time       // nil: it was cut off
}

// mostNotes is how many notes of an evaluation are kept.
const mostNotes = 99

// readEvaluation reads what a spool holds. The last value of a curve counts.
func readEvaluation(s *spool.Spool) (evaluated, error) {
	out := evaluated{figures: map[string]api.Float{}}
	size, _ := s.Size()
	for r := s.Reader(); ; {
		record, err := r.Next(size)
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		switch record.Kind {
		case spool.Readings:
			names, batch, err := decodeReadings(record.Body)
			if err != nil {
				return out, err
			}
			for i, c := range batch.Columns {
				if _, known := out.figures[names[i]]; len(c.Values) > 0 && (known || len(out.figures) < maxFigures) {
					out.figures[names[i]] = api.Float(c.Values[len(c.Values)-1])
				}
			}
		case spool.Note:
			var n api.NewNote
			if json.Unmarshal(record.Body, &n) == nil && len(out.notes) < mostNotes && !slices.Contains(out.notes,
				n.Text) {
				out.notes = append(out.notes, n.Text)
			}
		case spool.Sheet, spool.File:
			var m spool.Manifest
			if err := json.Unmarshal(record.Body, &m); err != nil {
				return out, err
			}
			out.handed = append(out.handed, m)
		case spool.End:
			var e spool.Ending
			if err := json.Unmarshal(record.Body, &e); err != nil {
				return out, err
			}
			out.ended = &e.At
		}
	}
}

// sendEvaluation tells the service of an evaluation, then hands over its sheets, each of which costs itself.
func (s *sender) sendEvaluation(ctx context.Context) error {
	s.renew()
	l := s.spool.Leg
	run := api.RunInput{ProjectInput: api.ProjectInput{Project: l.Project}, Number: l.Number}
	s.leg = api.LegInput{RunInput: run}
	s.change(func(st *spool.State) {
		st.Run, st.Why = api.Address{Project: l.Project, Run: l.Number}.String(), ""
	})
	found, err := readEvaluation(s.spool)
	if err != nil {
		return err
	}
	in := &api.NewEvaluation{CheckpointInput: api.CheckpointInput{RunInput: run, At: l.Evaluation.At}, Key: l.LegKey}
	b := &in.Body
	b.Data, b.Figures, b.Verify, b.Command, b.Host, b.Started, b.Ended = l.Evaluation.Data, found.figures,
		l.Evaluation.Verify, l.Recipe.Command, l.Recipe.Host, &l.Started, found.ended
	tell := func(notes []string) error {
		b.Notes = notes
		return s.tryItem(ctx, func(ctx context.Context) (err error) {
			s.evaluation, err = client.Call(ctx, s.via(), api.AddEvaluation, in)
			return err
		})
	}
	if err := tell(found.notes); err != nil {
		return err
	}
	for _, m := range found.handed {
		if err := s.sendHanded(ctx, m); err != nil {
			return err
		}
	}
	s.mutex.Lock()
	remarks := s.remarks
	s.remarks = nil
	s.mutex.Unlock()
	var notes []string
	for _, n := range remarks[:min(len(remarks), mostNotes)] {
		notes = append(notes, n.Text)
	}
	if len(notes) > 0 || len(found.handed) > 0 { // the answer has what the sheets gave
		if err := tell(notes); err != nil {
			return err
		}
	}
	return s.leftAside()
}

// cutOffEvaluation reports whether a spool holds an evaluation whose program never ended: nothing was found.
func cutOffEvaluation(s *spool.Spool) bool {
	if s.Leg.Evaluation == nil {
		return false
	}
	found, err := readEvaluation(s)
	return err == nil && found.ended == nil
}
