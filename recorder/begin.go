package recorder

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/checkpoint"
	"kembrel/core/tensor"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Beginning is how a leg begins other than afresh: as the next of a run, as a branch, or as a rerun.
type Beginning struct {
	Number     int                        // of the run that goes on; 0: a new run begins
	Origin     *api.Origin                // of a new run
	Checkpoint *api.Checkpoint            // to go on from, with the chunks of its files; nil: none
	Parts      []string                   // of it, for the program; nil: all
	Asked      map[string]json.RawMessage // hyperparameters for the program to take instead of its own
	More       bool                       // go on although the run is finished
	TakeOver   bool                       // open the leg although the one before is still heard of
	Got        func(int64)                // bytes of the checkpoint as they arrive
	Done       func()                     // the checkpoint is here, or could not be had
}

// prepare fetches what a leg goes on from and opens the leg, which keeps others from going on with the run meanwhile.
func prepare(ctx context.Context, o Options, s *spool.Spool) error {
	if s.Leg.Resumed == nil {
		return nil
	}
	b := o.Begin
	files := b.files()
	defer b.Done()
	if err := client.Restore(ctx, o.Connect(o.Service), b.input(), files, s.ResumedFolder(), false, b.Got); err != nil {
		return fmt.Errorf("fetch %s: %w", b.Checkpoint.Address, err)
	}
	n := &sender{spool: s, connect: func() *client.Client { return o.Connect(o.Service) }, say: func(string, ...any) {},
		named: func(string, int) {}, takeOver: b.TakeOver}
	n.state = s.State()
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	return n.openLeg(ctx)
}

// needs reports whether a checkpoint must be had before the program can start.
func (b *Beginning) needs() bool { return b != nil && b.Checkpoint != nil }

// input names the checkpoint by its leg and step: another may become the best meanwhile.
func (b *Beginning) input() api.CheckpointInput {
	from, _ := api.ParseAddress(b.Checkpoint.Address)
	return api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project},
		Number: from.Run},
		At: b.Checkpoint.Fixed()}
}

func (b *Beginning) files() []api.File {
	return slices.DeleteFunc(slices.Clone(b.Checkpoint.Files),
		func(f api.File) bool { return b.Parts != nil && !slices.Contains(b.Parts, f.Part) })
}

// leg fills in what the spool must know.
func (b *Beginning) leg(l *spool.Leg) {
	l.Number, l.Origin, l.Asked, l.More = b.Number, b.Origin, b.Asked, b.More
	if c := b.Checkpoint; c != nil {
		l.Resumed = &api.Resumed{From: c.Address, Step: c.Step, Epoch: c.Epoch, Parts: []string{}}
		for _, f := range b.files() {
			if !slices.Contains(l.Resumed.Parts, f.Part) {
				l.Resumed.Parts = append(l.Resumed.Parts, f.Part)
			}
			l.Files = append(l.Files, spool.ManifestFile{Part: f.Part, Path: f.Path, Size: f.Size})
		}
	}
}

// hello welcomes a program. The mutex is held.
func (n *session) hello(m protocol.Message, out *outbox) error {
	n.order.there[out.rank]--
	out.rank = m.Rank
	n.order.there[out.rank]++
	n.order.ranks = max(n.order.ranks, m.Ranks)
	if out.rank == 0 {
		n.language = m.Language
	}
	r := protocol.Reply{Kind: "welcome", ID: m.ID, Protocol: protocol.Version, Run: n.run, Leg: n.leg,
		Kept: n.kept[out.rank], Folder: n.spool.Folder, Asked: n.spool.Leg.Asked}
	if n.evaluate != nil {
		r.Verify, r.Evaluate = n.evaluate.Folder, n.evaluate
	}
	if from := n.spool.Leg.Resumed; from != nil {
		r.Resume = &protocol.Resume{From: from.From, Branch: n.spool.Leg.Number == 0, Step: from.Step,
			Epoch: from.Epoch, Folder: n.spool.ResumedFolder(), Parts: map[string][]string{}}
		for _, f := range n.spool.Leg.Files {
			r.Resume.Parts[f.Part] = append(r.Resume.Parts[f.Part], f.Path)
		}
	}
	out.put(r)
	if m.Language != "" && !n.told && out.rank == 0 {
		n.told = true
		return n.keepJSON(spool.Program, protocol.Message{}, api.ProgramSays{Language: m.Language}, out)
	}
	return nil
}

// start keeps what the program says of itself. The weights that it starts with are read here and their file removed.
// The mutex is held.
func (n *session) start(m protocol.Message, out *outbox) error {
	if n.readings > 0 || n.order.waits(0) {
		return fmt.Errorf("start comes before the first reading")
	}
	if m.Weights != "" {
		digest, err := fingerprint(m.Weights)
		if err != nil {
			return fmt.Errorf("starting weights: %w", err)
		}
		m.Says.Start.Digest = digest
	}
	if m.Says.Language == "" {
		m.Says.Language = n.language
	}
	if m.Says.Needs != nil {
		n.needs = m.Says.Needs
	}
	return n.keepJSON(spool.Program, m, m.Says, out)
}

// fingerprint reads a file of tensors, which the program wrote for this alone, and removes it.
func fingerprint(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	defer os.Remove(path)
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	tensors, err := tensor.Open(f, info.Size())
	if err != nil {
		return "", err
	}
	digest, err := tensor.Fingerprint(tensors)
	return digest.String(), err
}

// warnOf says once for each kind of gap that the checkpoints of this program do not do for all that people count on.
func (n *session) warnOf(m spool.Manifest) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	var parts []string
	for _, f := range m.Files {
		if !slices.Contains(parts, f.Part) {
			parts = append(parts, f.Part)
		}
	}
	needs := n.needs
	if len(needs) == 0 {
		needs = checkpoint.UsualNeeds
	}
	for _, w := range checkpoint.Warnings(parts, needs, n.classes) {
		if !n.warned[w] {
			n.warned[w] = true
			n.say("warning: %s", w)
		}
	}
}

// warn says what the service warns of, each once.
func (s *sender) warn(warnings []string) {
	for _, w := range warnings {
		if s.told(w) {
			s.say("warning: %s", w)
		}
	}
}

// Leftovers sends what dead recorders on this host kept of a run, so that it is known how far the run is before it goes
// on.
func Leftovers(ctx context.Context, o Options, run string, say func(string, ...any)) error {
	spools, err := spool.List(o.Roots...)
	if err != nil {
		return err
	}
	for _, i := range spools {
		if i.Run == run && i.Service == o.Service && !i.Held && i.Why == "" {
			say("sending what an earlier recorder kept of %s", run)
			if _, err := SendLeftover(ctx, o, i.Folder, say); err != nil {
				return fmt.Errorf("the spool %s holds more of %s: %w", filepath.Base(i.Folder), run, err)
			}
		}
	}
	return nil
}
