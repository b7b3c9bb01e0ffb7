package recorder

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/hyper"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// What could not be kept is a gap that the run shows, in words; nothing of it reaches the program but a reply.

// gap is what could not be kept since it began.
type gap struct {
	readings, others int
	from, to         int64 // steps of readings
	since            time.Time
	why              error
}

// room hears that the spool's disk takes nothing, or takes again. What the program says meanwhile waits in memory.
func (n *session) room(none error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if none == nil {
		n.held = ""
		n.say("the spool's disk takes again; what waited is written")
		n.sayGap()
		return
	}
	n.held = fmt.Sprintf("the spool's disk takes nothing (%v); what comes waits in memory, training goes on",
		withoutPath(none))
	n.say("%s", n.held)
	n.tell(protocol.Reply{Kind: "held", What: n.held})
}

// lose counts what could not be kept.
func (n *session) lose(kind spool.Kind, m protocol.Message, err error) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if n.gap.readings+n.gap.others == 0 {
		n.gap.since, n.gap.why = time.Now(), err
		n.say("%v: what comes from now on is lost until there is room", err)
	}
	if kind != spool.Readings {
		n.gap.others++
		return
	}
	axis := m.Batch.Axis
	if n.gap.readings == 0 && len(axis) > 0 {
		n.gap.from = axis[0].Step
	}
	if len(axis) > 0 {
		n.gap.to = axis[len(axis)-1].Step
	}
	for _, c := range m.Batch.Columns {
		n.gap.readings += len(c.Values)
	}
}

// sayGap leaves on the run what could not be kept. The mutex is held.
func (n *session) sayGap() {
	g := n.gap
	if g.readings+g.others == 0 {
		return
	}
	n.gap = gap{}
	var parts []string
	if g.readings > 0 {
		parts = append(parts, fmt.Sprintf("%d readings of steps %d to %d", g.readings, g.from, g.to))
	}
	if g.others > 0 {
		parts = append(parts, fmt.Sprintf("%d other messages", g.others))
	}
	n.remark(fmt.Sprintf("Not kept, from %s to %s: %s, because %v.", g.since.Format(time.DateTime),
		time.Now().Format(time.DateTime), strings.Join(parts, " and "), g.why))
}

// onTheRun is what has been left on the run already.
type onTheRun struct{ error }

func (e onTheRun) Unwrap() error { return e.error }

// miss says and leaves on the run that it lacks a checkpoint. The mutex is held.
func (n *session) miss(step int64, why error) {
	text := missed(step, why.Error())
	n.say("%s", text)
	n.remark(text)
}

func missed(step int64, why string) string {
	return fmt.Sprintf("The checkpoint of step %d was not kept: %s.", step, why)
}

// abandon forgets a checkpoint that the program could not write, which makes room. The mutex is held.
func (n *session) abandon(m protocol.Message, out *outbox) error {
	manifest, ok := n.open[m.Key]
	if !ok || manifest.Kind() != protocol.Checkpoint {
		return fmt.Errorf("checkpoint %.60q is not open", m.Key)
	}
	delete(n.open, m.Key)
	delete(n.steps, manifest.Step)
	n.unmakeFolder(m.Key)
	why := m.Why
	if why == "" {
		why = "the program gave it up"
	}
	return n.keepJSON(spool.Note, m, api.NewNote{At: time.Now(), Text: missed(manifest.Step, why)}, out)
}

// withoutPath is an error of the file system without the path, which says nothing to people.
func withoutPath(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}

// take keeps that the program took values which it was asked to take: they are the ones used. The mutex is held.
func (n *session) take(m protocol.Message, out *outbox) error {
	took := map[string]any{}
	for _, name := range m.Taken {
		v, ok := n.spool.Leg.Asked[name]
		if !ok {
			return fmt.Errorf("hyperparameter %.100q was not asked for", name)
		}
		n.used[name], took[name] = v, v
	}
	return n.keepJSON(spool.Hyper, m, took, out)
}

// untaken says which values the program was asked to take and did not; "": all were taken.
func (n *session) untaken() string {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return hyper.SayUntaken(hyper.Untaken(n.spool.Leg.Asked, n.used))
}

// orRestarted finds out whether readings are refused because the program began again from its first step although it
// was to go on, which is said once in words that help. The mutex is held.
func (n *session) orRestarted(m protocol.Message, err error) error {
	from := n.spool.Leg.Resumed
	if from == nil || n.readings > 0 || len(m.Batch.Axis) == 0 || m.Batch.Axis[0].Step > from.Step {
		return err
	}
	if !n.restarted {
		n.restarted = true
		n.say("warning: the program begins again at step %d, although it goes on from step %d (%s): what it records up to there is left out. Its loop must begin behind the checkpoint: for epoch in run.epochs(N), or from run.resumed.step and run.resumed.epoch (docs/resuming.md)",
			m.Batch.Axis[0].Step, from.Step, from.From)
		n.remark(fmt.Sprintf("The program began again at step %d although it went on from %s (step %d): its loop does not start behind the checkpoint. "+
			"What it recorded up to there is left out, and its weights were trained longer than its steps say.",
			m.Batch.Axis[0].Step, from.From, from.Step))
	}
	return errRestarted
}

// errRestarted is why readings of a program that began again are refused, the same for all of them.
var errRestarted = errors.New("the step is not behind the checkpoint that the run goes on from; begin the loop behind it: for epoch in run.epochs(N)")
