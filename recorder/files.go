package recorder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
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

// version is what tells whether a file was written again. Its time is that of its file system, whose clock may be
// another than this machine's: versions are compared with each other only.
type version struct {
	time time.Time
	size int64
}

// matching are the files that a pattern names below a folder, by path. Links that leave the folder, or lead nowhere,
// are not among them.
func matching(ctx context.Context, root *os.Root, pattern string) (map[string]version, error) {
	out := map[string]version{}
	err := doublestar.GlobWalk(root.FS(), filepath.ToSlash(pattern), func(path string, _ fs.DirEntry) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if info, err := root.Stat(path); err == nil && info.Mode().IsRegular() {
			out[path] = version{info.ModTime(), info.Size()}
		}
		if len(out) > mostMatched {
			return fmt.Errorf("there are more than %d files", mostMatched)
		}
		return nil
	}, doublestar.WithFilesOnly())
	return out, err
}

// versions are the files that patterns name before a program begins.
func versions(ctx context.Context, folder string, patterns []string) map[string]version {
	out := map[string]version{}
	if len(patterns) == 0 {
		return out
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return out // said at the end
	}
	defer root.Close()
	for _, pattern := range patterns {
		found, _ := matching(ctx, root, pattern) // said at the end
		maps.Copy(out, found)
	}
	return out
}

// keepMatched keeps the files that the patterns name below a folder and that the program wrote: those that were not
// there before, or are other ones now. What cannot be kept costs itself, and is left on the run.
func (n *session) keepMatched(ctx context.Context, folder string, patterns []string, before map[string]version) {
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
		found, err := matching(ctx, root, pattern)
		switch {
		case err != nil:
			n.remark(fmt.Sprintf("Not all files of %s were kept: %v.", pattern, withoutPath(err)))
		case len(found) == 0:
			n.remark(fmt.Sprintf("There was no file %s to keep.", pattern))
		}
		for _, path := range slices.Sorted(maps.Keys(found)) {
			if seen[path] || len(seen) == mostMatched {
				continue
			}
			seen[path] = true
			if was, there := before[path]; there && was.size == found[path].size && was.time.Equal(found[path].time) {
				older++
				continue
			}
			n.keepCopy(path, func() (*os.File, error) { return root.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) })
		}
	}
	if older > 0 {
		n.remark(fmt.Sprintf("%d files that were to be kept were there before the run, which did not write them.",
			older))
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
