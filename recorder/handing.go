package recorder

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// How a program hands over a prediction sheet, items of data, or a file that it wrote: as for a checkpoint it is given
// a folder and writes into it. What is wrong in the files of a sheet is found out by the service, costs the sheet
// alone, and is said on the run.

// hand answers a message on a sheet, items or a file. The mutex is held.
func (n *session) hand(m protocol.Message, out *outbox) error {
	if m.Do == "begin" {
		return n.beginHanding(m, out)
	}
	manifest, ok := n.open[m.Key]
	switch {
	case !ok && n.done[m.Key] && m.Do == "commit": // told again to a new recorder
		out.put(handed(protocol.Reply{Kind: "kept", ID: m.ID}, m.Kind, m.Key))
		return nil
	case !ok || manifest.Kind() != m.Kind:
		return fmt.Errorf("%s %.60q is not open; begin it first", m.Kind, m.Key)
	case m.Do == "commit":
		n.beside(func() { n.commitHanded(manifest, m, out) }) // it waits for the disk
		return nil
	}
	why := m.Why
	if why == "" {
		why = "the program gave it up"
	}
	n.forgetHanded(m.Key)
	return n.keepJSON(spool.Note, m, api.NewNote{At: time.Now(), Text: unkept(manifest, errors.New(why))}, out)
}

// handed names in an answer what was handed over.
func handed(r protocol.Reply, kind, key string) protocol.Reply {
	switch kind {
	case protocol.FileKind:
		r.File = key
	case protocol.Items:
		r.Items = key
	default:
		r.Sheet = key
	}
	return r
}

func (n *session) beginHanding(m protocol.Message, out *outbox) error {
	manifest := spool.Manifest{Key: uuid.NewString(), Step: n.lastStep, Epoch: api.Float(n.lastEpoch), Path: m.Path}
	if m.Kind == protocol.Items {
		if n.evaluate != nil {
			return errors.New("an evaluation has its data from whoever asks for it")
		}
		manifest.Items = &spool.Use{For: m.Use, Dataset: cmp.Or(m.Data, n.spool.Leg.Project)}
	}
	if m.Kind == protocol.Sheet {
		manifest.Step, manifest.Sheet = m.Step, &spool.Answers{Says: m.Answers, Split: m.Split}
		switch {
		case !math.IsNaN(m.Epoch):
			manifest.Epoch = api.Float(m.Epoch)
		case math.IsNaN(n.lastEpoch):
			manifest.Epoch = api.Float(m.Step)
		}
		if e := n.evaluate; e != nil {
			if e.Split != "" && e.Split != m.Split {
				return fmt.Errorf("the answers are on %s, and %s is evaluated", m.Split, e.Split)
			}
			manifest.Step, manifest.Epoch = e.Step, e.Epoch
		}
	}
	n.open[manifest.Key] = manifest
	if manifest.Items != nil {
		n.itemsBegun()
	}
	n.beside(func() {
		folder, err := n.makeFolder(manifest)
		if err != nil {
			n.mutex.Lock()
			n.forgetHanded(manifest.Key)
			n.mutex.Unlock()
			n.remark(unkept(manifest, err))
			n.problem(out, m, onTheRun{err})
			return
		}
		out.put(handed(protocol.Reply{Kind: "folder", ID: m.ID, Folder: folder}, m.Kind, manifest.Key))
	})
	return nil
}

func unkept(m spool.Manifest, why error) string {
	switch m.Kind() {
	case protocol.FileKind:
		return fmt.Sprintf("The file %s was not kept: %s.", m.Path, problemOf(why))
	case protocol.Items:
		return fmt.Sprintf("The items handed over for %s became no snapshot: %s.", m.Items.For, problemOf(why))
	}
	return fmt.Sprintf("The predictions on %s at step %d were not kept: %s.", m.Sheet.Split, m.Step, problemOf(why))
}

// forgetHanded forgets what was begun. The mutex is held.
func (n *session) forgetHanded(key string) {
	delete(n.open, key)
	n.unmakeFolder(key)
	n.itemsComplete()
}

// commitHanded keeps a sheet, items or a file and answers.
func (n *session) commitHanded(manifest spool.Manifest, m protocol.Message, out *outbox) {
	files := m.Files
	switch m.Kind {
	case protocol.FileKind:
		files = []protocol.File{{Part: "file", Path: manifest.Path}}
	case protocol.Items:
		files = []protocol.File{{Part: "items", Path: protocol.ItemsFile}}
	}
	if err := n.keepHanded(manifest, files); err != nil {
		n.problem(out, m, onTheRun{err})
		return
	}
	n.settled(out.rank)
	out.put(handed(protocol.Reply{Kind: "kept", ID: m.ID}, m.Kind, m.Key))
}

// keepHanded makes what lies in its folder durable. What it fails at is left on the run.
func (n *session) keepHanded(manifest spool.Manifest, files []protocol.File) error {
	paths := make([]string, len(files))
	for i, f := range files {
		paths[i] = f.Path
	}
	sizes, err := n.spool.Keep(manifest.Key, paths)
	if err == nil {
		manifest.Saved = time.Now()
		for i, f := range files {
			manifest.Files = append(manifest.Files, spool.ManifestFile{Part: f.Part, Path: f.Path, Size: sizes[i]})
		}
		kind := spool.Sheet
		switch manifest.Kind() {
		case protocol.FileKind:
			kind = spool.File
		case protocol.Items:
			kind = spool.Items
		}
		err = n.spool.AppendNow(kind, 0, manifest)
	}
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if err != nil {
		err = withoutPath(err)
		n.forgetHanded(manifest.Key)
		n.remark(unkept(manifest, err))
		return err
	}
	delete(n.open, manifest.Key)
	n.done[manifest.Key] = true
	n.spool.Ended(manifest.Key)
	n.itemsComplete()
	return nil
}

// addSheet hands a sheet over whose chunks are with the service.
func (s *sender) addSheet(ctx context.Context, m spool.Manifest, files []api.File) error {
	in := &api.NewSheet{RunInput: s.leg.RunInput, Key: m.Key}
	in.Body.Says, in.Body.Split, in.Body.Leg, in.Body.Step, in.Body.Epoch, in.Body.Files = m.Sheet.Says, m.Sheet.Split,
		s.leg.Leg, m.Step, m.Epoch, files
	if s.evaluation != nil {
		in.Body.Of = s.evaluation.Number
	}
	_, err := client.AddSheet(ctx, s.via(), in, func(*api.Sheet) { s.progress.Add(1) })
	if err == nil {
		s.sheets.Add(1)
	}
	return err
}

// addFile adds a file whose chunks are with the service.
func (s *sender) addFile(ctx context.Context, m spool.Manifest, files []api.File) error {
	in := &api.NewRunFile{RunInput: s.leg.RunInput, Key: m.Key}
	in.Body.Leg, in.Body.File = s.leg.Leg, files[0]
	if s.evaluation != nil {
		in.Body.Of = s.evaluation.Number
	}
	_, err := client.Call(ctx, s.via(), api.AddRunFile, in)
	if err == nil {
		s.files.Add(1)
	}
	return err
}

// refuseHanded leaves on the run why the service refuses a sheet or a file, which no waiting changes, and lets it go.
func (s *sender) refuseHanded(m spool.Manifest, why error) error {
	text := unkept(m, why)
	s.say("%s", text)
	s.remark(text)
	return s.spool.Forget(m.Key)
}
