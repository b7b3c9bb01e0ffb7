package recorder

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// How a program hands over a checkpoint: it is given a folder, writes into it, and says which files are which part.

// begin answers with a folder for a checkpoint, which is made beside the messages: the disk may be slow. The mutex is
// held.
func (n *session) begin(m protocol.Message, out *outbox) error {
	if n.steps[m.Step] || n.beginning[m.Step] {
		return fmt.Errorf("this leg has a checkpoint at step %d already; a checkpoint never changes", m.Step)
	}
	figures := make(map[string]api.Float, len(n.figures))
	for name, v := range n.figures {
		figures[name] = v
	}
	manifest := spool.Manifest{Key: uuid.NewString(), Step: m.Step, Epoch: api.Float(m.Epoch),
		Why:     strings.ToValidUTF8(m.Why, ""),
		Figures: figures, Ranks: m.Ranks}
	n.beginning[m.Step] = true
	n.beside(func() {
		folder, err := n.makeFolder(manifest)
		n.mutex.Lock()
		defer n.mutex.Unlock()
		delete(n.beginning, m.Step)
		if err != nil {
			n.miss(m.Step, err)
			n.beside(func() { n.problem(out, m, onTheRun{err}) })
			return
		}
		n.open[manifest.Key], n.steps[m.Step] = manifest, true
		out.put(protocol.Reply{Kind: "folder", ID: m.ID, Checkpoint: manifest.Key, Folder: folder})
		n.begun(manifest)
	})
	return nil
}

// makeFolder makes the folder that a program writes into, and notes whose it is.
func (n *session) makeFolder(manifest spool.Manifest) (folder string, err error) {
	folder = n.spool.OpenFolder(manifest.Key)
	if err = os.MkdirAll(folder, 0o700); err == nil {
		err = n.spool.Begin(manifest)
	}
	if err != nil {
		os.RemoveAll(folder)
		return "", fmt.Errorf("cannot make a folder for it: %w", withoutPath(err))
	}
	return folder, nil
}

// unmakeFolder takes back what makeFolder made, beside the messages: what lies in it may be large.
func (n *session) unmakeFolder(key string) {
	n.beside(func() {
		n.spool.Ended(key)
		os.RemoveAll(n.spool.OpenFolder(key))
	})
}

func (n *session) commit(m protocol.Message, out *outbox) error {
	manifest, ok := n.open[m.Key]
	ok = ok && manifest.Kind() == protocol.Checkpoint
	if !ok && n.done[m.Key] { // a program tells a new recorder again what the old one had kept
		out.put(protocol.Reply{Kind: "kept", ID: m.ID, Checkpoint: m.Key})
		return nil
	}
	if !ok {
		return fmt.Errorf("checkpoint %.60q is not open; begin it first", m.Key)
	}
	heard := []answer{{out, m.ID}}
	if manifest.Ranks > 1 {
		whole, ranks, err := n.gather(manifest, m, out)
		if whole == nil {
			return err
		}
		m, heard = *whole, ranks
	}
	paths := make([]string, len(m.Files))
	for i, f := range m.Files {
		paths[i] = f.Path
	}
	// The rest waits for the disk, so it runs beside the other messages.
	n.beside(func() {
		if err := n.keepCheckpoint(manifest, m, paths); err != nil {
			n.mutex.Lock()
			n.miss(manifest.Step, err)
			n.mutex.Unlock()
			for _, a := range heard {
				m.ID = a.id
				n.problem(a.out, m, onTheRun{err})
			}
			return
		}
		for _, a := range heard {
			n.settled(a.out.rank)
			a.out.put(protocol.Reply{Kind: "kept", ID: a.id, Checkpoint: m.Key})
		}
	})
	return nil
}

func (n *session) keepCheckpoint(manifest spool.Manifest, m protocol.Message, paths []string) error {
	if err := n.spool.Check(m.Key, paths); err != nil {
		return err
	}
	coming := manifest
	for _, f := range m.Files {
		coming.Files = append(coming.Files, spool.ManifestFile{Part: f.Part, Path: f.Path, Cut: n.cut})
	}
	n.coming(coming)
	sizes, err := n.spool.Keep(m.Key, paths)
	if err != nil {
		return err
	}
	manifest.Saved = time.Now()
	for i, f := range m.Files {
		manifest.Files = append(manifest.Files, spool.ManifestFile{Part: f.Part, Path: f.Path,
			Size: sizes[i], Cut: n.cut})
	}
	if err := n.spool.AppendNow(spool.Checkpoint, 0, manifest); err != nil {
		return fmt.Errorf("keep the checkpoint: %w", err)
	}
	n.mutex.Lock()
	delete(n.open, m.Key)
	n.done[m.Key] = true
	n.mutex.Unlock()
	n.spool.Ended(m.Key)
	n.warnOf(manifest)
	return nil
}
