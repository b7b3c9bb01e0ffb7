package kembrel

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
)

// File keeps a file with the run that is no checkpoint, as it is now: a report, a table, a picture. It goes by its path
// below the working folder, by its name from elsewhere, or by name where that is not ""; one of the same name takes the
// place of the one before. It returns once the file is copied; the recorder makes it safe and sends it.
func (r *Run) File(path, name string) error {
	err := r.file(path, name)
	if err != nil {
		r.fail(err)
	}
	return r.forgive(err)
}

func (r *Run) file(path, name string) error {
	if name == "" {
		name = filepath.Base(path)
		if folder, err := os.Getwd(); err == nil {
			if full, err := filepath.Abs(path); err == nil {
				if below, err := filepath.Rel(folder, full); err == nil && filepath.IsLocal(below) {
					name = filepath.ToSlash(below)
				}
			}
		}
	}
	err := r.handOver("file", func() { r.line = appendText(append(r.line, `,"path":`...), name) },
		func(folder string) (string, any, error) {
			return "size", 0, copyFile(path, filepath.Join(folder, filepath.FromSlash(name)))
		})
	if err != nil {
		return fmt.Errorf("file %s: %w", strconv.Quote(name), err)
	}
	return nil
}

// Keep keeps a file with the evaluation, as Run.File does with a run. (File is the path of a part.)
func (e *Evaluation) Keep(path, name string) error { return e.run.File(path, name) }

func copyFile(path, to string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() { // a pipe would be waited for
		return fmt.Errorf("%s is no plain file", path)
	}
	from, err := os.Open(path)
	if err != nil {
		return err
	}
	defer from.Close()
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, from)
	if closing := out.Close(); err == nil {
		err = closing
	}
	return err
}
