package spool

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
)

// Rescue writes a spool whose disk takes nothing below another root, with what waits in memory, and gives up the one it
// was. Checkpoints handed over stay where they are; the new spool points to them. Nothing may be appended any more.
func (s *Spool) Rescue(roots []string) (folder string, err error) {
	roots = slices.DeleteFunc(slices.Clone(roots), func(r string) bool { return r == filepath.Dir(s.Folder) })
	fresh, _, err := MakeSomewhere(roots, s.Leg)
	if err != nil {
		return "", err
	}
	defer fresh.Close()
	s.records.openAll()
	size, _ := s.Size()
	file, err := os.Create(filepath.Join(fresh.Folder, "records"))
	if err == nil {
		_, err = io.Copy(file, io.NewSectionReader(s.records, 0, size))
		err = errors.Join(err, file.Sync(), file.Close())
	}
	if err == nil {
		err = fresh.SetState(s.State())
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(fresh.Folder, "recorder"), []byte(s.Recorder+"\n"), 0o600)
	}
	kept := filepath.Join(fresh.Folder, "kept")
	if err == nil {
		err = os.Remove(kept)
	}
	if err == nil {
		err = os.Symlink(filepath.Join(s.Folder, "kept"), kept)
	}
	if err == nil {
		err = os.Remove(filepath.Join(s.Folder, "leg.json")) // it is no spool any more
	}
	if err != nil {
		os.RemoveAll(fresh.Folder)
		return "", err
	}
	return fresh.Folder, nil
}

// rescued is the folder that a spool was rescued from, whose checkpoints it points to; "": none.
func (s *Spool) rescued() string {
	kept, err := os.Readlink(filepath.Join(s.Folder, "kept"))
	if err != nil {
		return ""
	}
	return filepath.Dir(kept)
}
