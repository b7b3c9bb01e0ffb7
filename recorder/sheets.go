package recorder

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// How a program hands over a prediction sheet: like a checkpoint it is given a folder and writes into it. What is wrong
// in its files is found out by the service, costs the sheet alone, and is said on the run.

// sheet answers a message on a sheet. The mutex is held.
func (n *session) sheet(m protocol.Message, out *outbox) error {
	if m.Do == "begin" {
		return n.beginSheet(m, out)
	}
	manifest, ok := n.open[m.Key]
	switch {
	case !ok && n.done[m.Key] && m.Do == "commit": // told again to a new recorder
		out.put(protocol.Reply{Kind: "kept", ID: m.ID, Sheet: m.Key})
		return nil
	case !ok || manifest.Sheet == nil:
		return fmt.Errorf("sheet %.60q is not open; begin it first", m.Key)
	case m.Do == "commit":
		go n.commitSheet(manifest, m, out) // it waits for the disk
		return nil
	}
	why := m.Why
	if why == "" {
		why = "the program gave them up"
	}
	n.forgetSheet(m.Key)
	return n.keepJSON(spool.Note, m, api.NewNote{At: time.Now(), Text: unkeptSheet(manifest, errors.New(why))}, out)
}

func (n *session) beginSheet(m protocol.Message, out *outbox) error {
	manifest := spool.Manifest{Key: uuid.NewString(), Step: m.Step, Epoch: api.Float(m.Epoch),
		Sheet: &spool.Answers{Says: m.Answers, Split: m.Split}}
	if math.IsNaN(m.Epoch) {
		manifest.Epoch = api.Float(m.Step)
		if !math.IsNaN(n.lastEpoch) {
			manifest.Epoch = api.Float(n.lastEpoch)
		}
	}
	if e := n.evaluate; e != nil {
		if e.Split != "" && e.Split != m.Split {
			return fmt.Errorf("the answers are on %s, and %s is evaluated", m.Split, e.Split)
		}
		manifest.Step, manifest.Epoch = e.Step, e.Epoch
	}
	folder := n.spool.OpenFolder(manifest.Key)
	err := os.MkdirAll(folder, 0o700)
	if err == nil {
		if err = n.spool.Begin(manifest); err != nil {
			os.RemoveAll(folder)
		}
	}
	if err != nil {
		err = fmt.Errorf("make a folder for the sheet: %w", withoutPath(err))
		n.remark(unkeptSheet(manifest, err))
		return onTheRun{err}
	}
	n.open[manifest.Key] = manifest
	out.put(protocol.Reply{Kind: "folder", ID: m.ID, Sheet: manifest.Key, Folder: folder})
	return nil
}

func unkeptSheet(m spool.Manifest, why error) string {
	return fmt.Sprintf("The predictions on %s at step %d were not kept: %s.", m.Sheet.Split, m.Step, problemOf(why))
}

// forgetSheet forgets a sheet that was begun. The mutex is held.
func (n *session) forgetSheet(key string) {
	delete(n.open, key)
	n.spool.Ended(key)
	os.RemoveAll(n.spool.OpenFolder(key))
}

// commitSheet keeps a sheet and answers.
func (n *session) commitSheet(manifest spool.Manifest, m protocol.Message, out *outbox) {
	paths := make([]string, len(m.Files))
	for i, f := range m.Files {
		paths[i] = f.Path
	}
	sizes, err := n.spool.Keep(m.Key, paths)
	if err == nil {
		manifest.Saved = time.Now()
		for i, f := range m.Files {
			manifest.Files = append(manifest.Files, spool.ManifestFile{Part: f.Part, Path: f.Path, Size: sizes[i]})
		}
		err = n.spool.AppendNow(spool.Sheet, 0, manifest)
	}
	if err != nil {
		err = withoutPath(err)
		n.mutex.Lock()
		n.forgetSheet(m.Key)
		n.mutex.Unlock()
		n.remark(unkeptSheet(manifest, err))
		n.problem(out, m, onTheRun{err})
		return
	}
	n.mutex.Lock()
	delete(n.open, m.Key)
	n.done[m.Key] = true
	n.mutex.Unlock()
	n.spool.Ended(m.Key)
	n.settled(out.rank)
	out.put(protocol.Reply{Kind: "kept", ID: m.ID, Sheet: m.Key})
}

// addSheet hands a sheet over whose chunks are with the service.
func (s *sender) addSheet(ctx context.Context, m spool.Manifest, files []api.File) error {
	in := &api.NewSheet{RunInput: s.leg.RunInput, Key: m.Key}
	in.Body.Says, in.Body.Split, in.Body.Leg, in.Body.Step, in.Body.Epoch, in.Body.Files = m.Sheet.Says, m.Sheet.Split,
		s.leg.Leg, m.Step, m.Epoch, files
	if s.evaluation != nil {
		in.Body.Of = s.evaluation.Number
	}
	_, err := client.Call(ctx, s.client, api.AddSheet, in)
	return err
}

// refuseSheet leaves on the run why the service refuses what a sheet says, which no waiting changes, and lets it go.
func (s *sender) refuseSheet(m spool.Manifest, why error) error {
	text := unkeptSheet(m, why)
	s.say("%s", text)
	s.remark(text)
	return s.spool.Forget(m.Key)
}
