package recorder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Limits of what patterns keep.
const (
	mostMatched = 2000
	mostOfFile  = 16 << 30
)

// CheckKeep says what is wrong with a pattern of files to keep, or nil.
func CheckKeep(pattern string) error {
	switch {
	case filepath.IsAbs(pattern):
		return fmt.Errorf("%q begins at the root; patterns are below the folder in which the program runs", pattern)
	case !doublestar.ValidatePattern(pattern) || !filepath.IsLocal(filepath.FromSlash(pattern)):
		return fmt.Errorf("%q is no pattern of files, such as 'out/*.csv' or 'report/**'", pattern)
	}
	return nil
}

// keepMatched keeps the files that the patterns name below a folder and that were written since the program began. What
// cannot be kept costs itself, and is left on the run. Links that leave the folder are not followed.
func (n *session) keepMatched(ctx context.Context, folder string, patterns []string, since time.Time) {
	if len(patterns) == 0 {
		return
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		n.remark(fmt.Sprintf("The files that were to be kept were not: %v.", withoutPath(err)))
		return
	}
	defer root.Close()
	seen, older := map[string]bool{}, 0
	for _, pattern := range patterns {
		matched := 0
		err := doublestar.GlobWalk(root.FS(), filepath.ToSlash(pattern), func(path string, d fs.DirEntry) error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			info, err := root.Stat(path)
			switch {
			case err != nil || !info.Mode().IsRegular() || seen[path]: // a link that leaves, or leads nowhere
				return nil
			case len(seen) == mostMatched:
				return fmt.Errorf("there are more than %d files", mostMatched)
			}
			matched++
			seen[path] = true
			if info.ModTime().Before(since.Add(-time.Second)) { // clocks of file systems are coarse
				older++
				return nil
			}
			n.keepCopy(path, func() (*os.File, error) { return root.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) })
			return nil
		}, doublestar.WithFilesOnly())
		switch {
		case err != nil:
			n.remark(fmt.Sprintf("Not all files of %s were kept: %v.", pattern, withoutPath(err)))
		case matched == 0:
			n.remark(fmt.Sprintf("There was no file %s to keep.", pattern))
		}
	}
	if older > 0 {
		n.remark(fmt.Sprintf("%d files that were to be kept are older than the run, which did not write them.", older))
	}
}

// keepCopy copies a file into the spool and keeps it there. What it fails at is left on the run.
func (n *session) keepCopy(path string, open func() (*os.File, error)) {
	m := spool.Manifest{Key: uuid.NewString(), Path: path}
	n.mutex.Lock()
	m.Step, m.Epoch = n.lastStep, api.Float(n.lastEpoch)
	n.mutex.Unlock()
	err := checkpoint.CheckPath(path)
	if err == nil && len(path) > protocol.MaxPath {
		err = fmt.Errorf("its path has more than %d bytes", protocol.MaxPath)
	}
	if err == nil {
		err = copyUnchanged(open, filepath.Join(n.spool.OpenFolder(m.Key), filepath.FromSlash(path)))
	}
	if err != nil {
		os.RemoveAll(n.spool.OpenFolder(m.Key))
		n.remark(unkept(m, withoutPath(err)))
		return
	}
	n.keepHanded(m, []protocol.File{{Part: "file", Path: path}})
}

// copyTries is how often a file that changes while it is read is read again.
const copyTries = 3

// copyUnchanged copies a file as it is at one moment.
func copyUnchanged(open func() (*os.File, error), to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	for try := 0; ; try++ {
		same, err := copyOnce(open, to)
		if err != nil || same {
			return err
		}
		if try == copyTries {
			return errors.New("it changed again and again while it was read")
		}
		time.Sleep(200 * time.Millisecond)
	}
}

func copyOnce(open func() (*os.File, error), to string) (same bool, err error) {
	from, err := open()
	if err != nil {
		return false, err
	}
	defer from.Close()
	before, err := from.Stat()
	if err != nil {
		return false, err
	}
	if !before.Mode().IsRegular() {
		return false, fmt.Errorf("it is no plain file (%s)", before.Mode().Type())
	}
	if before.Size() > mostOfFile {
		return false, fmt.Errorf("it has %s; at most %s are kept", api.Bytes(before.Size()), api.Bytes(mostOfFile))
	}
	out, err := os.Create(to)
	if err != nil {
		return false, err
	}
	size, err := io.Copy(out, io.LimitReader(from, mostOfFile+1))
	if err = errors.Join(err, out.Close()); err != nil {
		return false, err
	}
	after, err := from.Stat()
	return err == nil && size == before.Size() && after.Size() == before.Size() &&
		after.ModTime().Equal(before.ModTime()), err
}
