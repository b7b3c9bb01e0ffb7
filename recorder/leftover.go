package recorder

import (
	"context"
	"errors"
	"time"

	"kembrel/client"
	"kembrel/recorder/spool"
)

// SendLeftover sends a spool that a dead recorder left and removes it once the service has everything. A run whose end
// was never recorded, although its program is gone, has failed: recorder and program ended together. The error wraps
// spool.ErrHeld where a recorder still lives, or the program does, which may be starting another recorder.
func SendLeftover(ctx context.Context, o Options, folder string,
	say func(string, ...any)) (readings, checkpoints int64, err error) {
	s, err := spool.Open(folder)
	if err != nil {
		return 0, 0, err
	}
	if s.Damage > 0 {
		say("the spool was damaged: %d bytes behind its last whole record are set aside in records.cut", s.Damage)
	}
	if s.ProgramLives() && !o.Force {
		s.Close()
		return 0, 0, spool.ErrHeld // its program may be starting another recorder
	}
	if cutOffEvaluation(s) {
		say("the evaluation of %s/%d@%s was cut off before it found anything; nothing of it is kept", s.Leg.Project,
			s.Leg.Number, s.Leg.Evaluation.At)
		return 0, 0, s.Remove()
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
		return n.readings.Load(), n.stored.Load(), s.Remove()
	}
	return n.readings.Load(), n.stored.Load(), errors.Join(err, s.Close())
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
