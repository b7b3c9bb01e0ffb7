package spool

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/sheet"
	"kembrel/host"
)

// Manifest is a checkpoint handed over by the program, a prediction sheet, items of data, or a file that it wrote.
type Manifest struct {
	Key     string               `json:"key"`
	Step    int64                `json:"step"`
	Epoch   api.Float            `json:"epoch"`
	Why     string               `json:"why,omitempty"`
	Saved   time.Time            `json:"saved"`
	Figures map[string]api.Float `json:"figures,omitempty"`
	Ranks   int                  `json:"ranks,omitempty"` // that hand over files; 0: the one process
	Files   []ManifestFile       `json:"files"`
	Sheet   *Answers             `json:"sheet,omitempty"` // of a prediction sheet
	Items   *Use                 `json:"items,omitempty"` // of items of data
	Path    string               `json:"path,omitempty"`  // of a file that is no checkpoint
}

// Kind is what it is, as the protocol calls it: checkpoint, items, sheet or file.
func (m Manifest) Kind() string {
	switch {
	case m.Items != nil:
		return "items"
	case m.Sheet != nil:
		return "sheet"
	case m.Path != "":
		return "file"
	}
	return "checkpoint"
}

// Use says what items of data are used for.
type Use struct {
	For     string `json:"for"`
	Dataset string `json:"dataset"` // whose snapshot they become
}

// Answers say what a prediction sheet is.
type Answers struct {
	sheet.Says
	Split string `json:"split"`
}

// ManifestFile is a file below kept/KEY.
type ManifestFile struct {
	Part string `json:"part"`
	Path string `json:"path"`
	Size int64  `json:"size"`
	Cut  string `json:"cut,omitempty"` // CutByContent, or "": at its tensors, else every 4 MiB
}

// CutByContent has a file without tensors cut by its content.
const CutByContent = "content"

// OpenFolder is where the program writes the checkpoint of this key.
func (s *Spool) OpenFolder(key string) string { return filepath.Join(s.Folder, "open", key) }

// KeptFolder is where a checkpoint handed over waits.
func (s *Spool) KeptFolder(key string) string { return filepath.Join(s.Folder, "kept", key) }

// Begin notes a checkpoint that the program begins, so that another recorder may take it over.
func (s *Spool) Begin(m Manifest) error { return writeJSON(s.OpenFolder(m.Key)+".json", m, false) }

// Ended forgets that a checkpoint was begun.
func (s *Spool) Ended(key string) { os.Remove(s.OpenFolder(key) + ".json") }

// Begun are the checkpoints that the program has begun, by key.
func (s *Spool) Begun() map[string]Manifest {
	out := map[string]Manifest{}
	paths, _ := filepath.Glob(filepath.Join(s.Folder, "open", "*.json"))
	for _, path := range paths {
		var m Manifest
		if content, err := os.ReadFile(path); err == nil && json.Unmarshal(content, &m) == nil &&
			filepath.Base(path) == m.Key+".json" {
			out[m.Key] = m
		}
	}
	return out
}

// Check looks whether the files of a checkpoint are there, plain and inside its folder.
func (s *Spool) Check(key string, paths []string) error {
	root, _, err := s.root(key)
	if err != nil {
		return err
	}
	defer root.Close()
	_, err = check(root, paths)
	return err
}

// root opens the folder of a checkpoint.
func (s *Spool) root(key string) (root *os.Root, folder string, err error) {
	folder = s.OpenFolder(key)
	if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) && uuid.Validate(key) == nil {
		folder = s.KeptFolder(key) // a recorder that died had moved it, and noted nothing
	}
	if root, err = os.OpenRoot(folder); err != nil {
		err = fmt.Errorf("checkpoint %s is not open; begin it first", key)
	}
	return root, folder, err
}

// check returns the folders in which files are, all of which must be plain.
func check(root *os.Root, paths []string) (folders map[string]bool, err error) {
	folders = map[string]bool{".": true}
	for _, p := range paths {
		for d := p; d != "."; d = filepath.Dir(d) {
			info, err := root.Lstat(d)
			if err != nil {
				return nil, fmt.Errorf("file %q is missing in the checkpoint's folder", p)
			}
			if d == p && !info.Mode().IsRegular() || d != p && !info.IsDir() {
				return nil, fmt.Errorf("%q is not a plain file in the checkpoint's folder (%s)", p, info.Mode().Type())
			}
			if d != p {
				folders[d] = true
			}
		}
	}
	return folders, nil
}

// Keep takes a checkpoint over from the program: checks that its files are there, plain and inside, makes them durable,
// and moves the folder out of the program's reach. It returns the sizes, in the order of the files.
func (s *Spool) Keep(key string, paths []string) ([]int64, error) {
	root, from, err := s.root(key)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	folders, err := check(root, paths)
	if err != nil {
		return nil, err
	}
	sizes := make([]int64, len(paths))
	for i, p := range paths {
		f, err := root.OpenFile(p, host.ToSync, 0)
		if err != nil {
			return nil, fmt.Errorf("file %q: %w", p, err)
		}
		info, err := f.Stat()
		if err == nil {
			sizes[i] = info.Size()
			err = f.Sync()
		}
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("keep %q: %w", p, err)
		}
	}
	for d := range folders {
		if err := host.SyncFolder(filepath.Join(from, d)); err != nil {
			return nil, err
		}
	}
	if from == s.KeptFolder(key) {
		return sizes, nil
	}
	root.Close() // not everywhere is a folder moved that is open
	if err := os.Rename(from, s.KeptFolder(key)); err != nil {
		return nil, fmt.Errorf("keep the checkpoint: %w", err)
	}
	return sizes, host.SyncFolder(filepath.Join(s.Folder, "kept"))
}

// Waiting is how many bytes of checkpoints have been handed over and are not with the service.
func (s *Spool) Waiting() (bytes int64) {
	filepath.WalkDir(filepath.Join(s.Folder, "kept"), func(_ string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil // it is gone meanwhile
		}
		if info, err := d.Info(); err == nil {
			bytes += info.Size()
		}
		return nil
	})
	return bytes
}

// Forget removes a checkpoint that the service has. It goes out of kept whole, so that whoever is cut off here leaves
// no half of it there.
func (s *Spool) Forget(key string) error {
	home := s.Folder
	if from := s.rescued(); from != "" {
		home = from
	}
	sent := filepath.Join(home, "sent-"+key)
	if err := os.Rename(s.KeptFolder(key), sent); err != nil {
		return fmt.Errorf("forget the checkpoint: %w", err)
	}
	if err := host.SyncFolder(filepath.Join(s.Folder, "kept")); err != nil {
		return err
	}
	return os.RemoveAll(sent)
}
