package recorder

import (
	"context"
	"errors"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/client"
	"kembrel/recorder/spool"
)

// SendLeftover sends a spool that a dead recorder left and removes it once the service has everything. A run whose end
// was never recorded, although its program is gone, has failed: recorder and program ended together. The error wraps
// spool.ErrHeld where a recorder still lives, or the program does, which may be starting another recorder.
func SendLeftover(ctx context.Context, o Options, folder string,
	say func(string, ...any)) (sent Sent, err error) {
	s, err := spool.Open(folder)
	if err != nil {
		return sent, err
	}
	if s.Damage > 0 {
		say("the spool was damaged: %d bytes behind its last whole record are set aside in records.cut", s.Damage)
	}
	if s.ProgramLives() && !o.Force {
		s.Close()
		return sent, spool.ErrHeld // its program may be starting another recorder
	}
	if o.Into != "" {
		if err := s.SetProject(o.Into); err != nil {
			return sent, errors.Join(err, s.Close())
		}
	}
	if cutOffEvaluation(s) {
		say("the evaluation of %s/%d@%s was cut off before it found anything; nothing of it is kept", s.Leg.Project,
			s.Leg.Number, s.Leg.Evaluation.At)
		return sent, s.Remove()
	}
	if err := readRest(s, say); err != nil {
		say("the rest of the program's output could not be read for readings: %v", withoutPath(err))
	}
	n := remainsSender(s, o, say)
	if !s.ProgramLives() {
		n.cutOff = &spool.Ending{State: "failed", At: s.Touched(),
			Why: "The program and its recorder were gone without a word: killed, or the machine went down."}
	}
	if o.Progress {
		telling, stop := context.WithCancel(ctx)
		defer stop()
		go n.tellProgress(telling)
	}
	if err = n.send(ctx); err == nil && s.Damage == 0 {
		return n.sent(), s.Remove()
	}
	return n.sent(), errors.Join(err, s.Close())
}

// Sent is what was brought to the service.
type Sent struct {
	Run                                                      string // its address; "": it was not begun
	Readings, Checkpoints, Sheets, Files, Snapshots, Records int64  // Records: notes, hyperparameters and the like
}

// Say names all of it, and whose it is.
func (s Sent) Say() string {
	var parts []string
	for _, p := range []struct {
		n         int64
		one, many string
	}{{s.Readings, "reading", "readings"}, {s.Checkpoints, "checkpoint", "checkpoints"},
		{s.Sheets, "prediction sheet", "prediction sheets"}, {s.Files, "file", "files"},
		{s.Snapshots, "snapshot of data", "snapshots of data"}, {s.Records, "other record", "other records"}} {
		switch {
		case p.n == 1:
			parts = append(parts, "1 "+p.one)
		case p.n > 1 || p.many == "readings":
			parts = append(parts, api.Thousands(p.n)+" "+p.many)
		}
	}
	text := strings.Join(parts, ", ")
	if i := strings.LastIndex(text, ", "); i > 0 {
		text = text[:i] + " and" + text[i+1:]
	}
	if s.Run != "" {
		text += " of " + s.Run
	}
	return text
}

// sent is what the sender has brought.
func (s *sender) sent() Sent {
	return Sent{Run: s.spool.State().Run, Readings: s.readings.Load(), Checkpoints: s.stored.Load(),
		Sheets: s.sheets.Load(), Files: s.files.Load(), Snapshots: s.snapshots.Load(), Records: s.others.Load()}
}

// remainsSender sends a spool whose program has ended.
func remainsSender(s *spool.Spool, o Options, say func(string, ...any)) *sender {
	return &sender{spool: s, connect: func() *client.Client { return o.Connect(s.Leg.Service) }, say: say,
		over: func() bool { return true }, named: func(string, int) {}, advise: func(string) {}}
}

// sendLeftovers quietly sends what earlier recorders for the same service left, one after another.
func sendLeftovers(ctx context.Context, o Options, own string) {
	spools, err := spool.List(o.Roots...)
	if err != nil {
		return
	}
	for _, i := range spools {
		if i.Folder == own || i.Held || i.Service != o.Service || i.Why != "" || time.Since(i.Started) < time.Second {
			continue
		}
		SendLeftover(ctx, o, i.Folder, func(string, ...any) {})
	}
}
