package blob

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"time"

	"kembrel/host"
)

// Local keeps each blob as a file below a folder.
type Local struct {
	folder  string
	reserve int64
	lent    atomic.Bool // half the reserve may be used for a while
}

var name = regexp.MustCompile(`^[a-z0-9-]+(/[a-z0-9-]+)*$`)

// NewLocal opens the folder, making it if it is not there, and removes what was left half written, when it is a day
// old: other processes may write there.
func NewLocal(folder string) (*Local, error) {
	incoming := filepath.Join(folder, incomingFolder)
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, fmt.Errorf("blob folder: %w", err)
	}
	l := &Local{folder: folder}
	return l, l.Tidy(context.Background())
}

// Reserve keeps so many bytes of the disk free of blobs.
func (l *Local) Reserve(bytes int64) { l.reserve = bytes }

// Lend lets half the reserve be used, for work that gives bytes back in the end.
func (l *Local) Lend(on bool) { l.lent.Store(on) }

// pieceRoom is room for one more of the largest chunks.
const pieceRoom = 4<<20 + 64<<10

// Space is how the disk stands: Missing is 0 where there is room.
func (l *Local) Space() (Full, error) {
	free, err := host.FreeBytes(l.folder)
	f := Full{Folder: l.folder, Free: free, Reserve: l.reserve}
	if l.lent.Load() {
		f.Reserve /= 2
	}
	f.Missing = max(0, f.Reserve+pieceRoom-free)
	return f, err
}

// Room implements Store.
func (l *Local) Room(size int64) error {
	if l.reserve == 0 {
		return nil
	}
	f, err := l.Space()
	if err != nil {
		return nil // writing says what is wrong
	}
	if f.Missing = max(0, f.Reserve+size-f.Free); f.Missing > 0 {
		return fmt.Errorf("keep a blob: %w", &f)
	}
	return nil
}

// Ready implements Store.
func (l *Local) Ready(context.Context) error {
	if _, err := os.Stat(filepath.Join(l.folder, incomingFolder)); err != nil {
		return fmt.Errorf("%w: %w", ErrAway, err)
	}
	return nil
}

// Tidy implements Store.
func (l *Local) Tidy(context.Context) error {
	incoming := filepath.Join(l.folder, incomingFolder)
	left, err := os.ReadDir(incoming)
	if err != nil {
		return fmt.Errorf("blob folder: %w", err)
	}
	for _, each := range left {
		if info, err := each.Info(); err == nil && time.Since(info.ModTime()) > oldUploads {
			os.Remove(filepath.Join(incoming, each.Name()))
		}
	}
	return nil
}

// incomingFolder cannot be a blob's name.
const incomingFolder = ".incoming"

func (l *Local) path(blob string) (string, error) {
	if !name.MatchString(blob) {
		return "", badName(blob)
	}
	return filepath.Join(l.folder, filepath.FromSlash(blob)), nil
}

func badName(blob string) error {
	return fmt.Errorf("blob name %.80q is not made of a-z, 0-9, hyphens and slashes", blob)
}

// Put implements Store: written beside, fsynced, renamed, its folder fsynced.
func (l *Local) Put(_ context.Context, blob string, data io.Reader) (err error) {
	path, err := l.path(blob)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Join(l.folder, incomingFolder), "put-")
	if err != nil {
		return fmt.Errorf("put blob: %w", err)
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
			err = fmt.Errorf("put blob %s: %w", blob, err)
		}
	}()
	if _, err = io.Copy(f, data); err != nil {
		return err
	}
	if err = f.Sync(); err != nil {
		return err
	}
	if err = f.Close(); err != nil {
		return err
	}
	if err = os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err = os.Rename(f.Name(), path); err != nil {
		return err
	}
	return l.syncFolders(path)
}

// Get implements Store.
func (l *Local) Get(_ context.Context, blob string, offset, size int64) (io.ReadCloser, error) {
	path, err := l.path(blob)
	if err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, missing(blob, err)
	}
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		f.Close()
		return nil, fmt.Errorf("get blob %s: %w", blob, err)
	}
	if size > 0 {
		return struct {
			io.Reader
			io.Closer
		}{io.LimitReader(f, size), f}, nil
	}
	return f, nil
}

// Size implements Store.
func (l *Local) Size(_ context.Context, blob string) (int64, error) {
	path, err := l.path(blob)
	if err != nil {
		return 0, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return 0, missing(blob, err)
	}
	return info.Size(), nil
}

func missing(blob string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s", ErrNone, blob)
	}
	return fmt.Errorf("blob %s: %w", blob, err)
}

// Grows implements Store.
func (l *Local) Grows() bool { return true }

// Append implements Store.
func (l *Local) Append(blob string) (Appending, error) {
	path, err := l.path(blob)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("append to blob %s: %w", blob, err)
	}
	return &appending{File: f, local: l, path: path}, nil
}

// appending is a file being written; its folders are made safe with its first Sync.
type appending struct {
	*os.File
	local *Local
	path  string
	known bool
}

// WriteAt implements Appending. The disk begins with a large piece at once, so that Sync has less to wait for.
func (a *appending) WriteAt(p []byte, at int64) (int, error) {
	n, err := a.File.WriteAt(p, at)
	if err == nil && n >= largeWrite {
		host.BeginWriting(a.File, at, int64(n))
	}
	return n, err
}

const largeWrite = 1 << 20

// Sync implements Appending.
func (a *appending) Sync(context.Context) error {
	if err := a.File.Sync(); err != nil || a.known {
		return err
	}
	if err := a.local.syncFolders(a.path); err != nil {
		return err
	}
	a.known = true
	return nil
}

// syncFolders makes the names on the way to a file safe.
func (l *Local) syncFolders(path string) error {
	for d := filepath.Dir(path); ; d = filepath.Dir(d) {
		if err := host.SyncFolder(d); err != nil {
			return fmt.Errorf("sync blobs: %w", err)
		}
		if d == filepath.Clean(l.folder) || d == filepath.Dir(d) {
			return nil
		}
	}
}

// List implements Store.
func (l *Local) List(_ context.Context, prefix string, each func(name string, size int64) error) error {
	return filepath.WalkDir(l.folder, func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // deleted meanwhile
		}
		if err != nil || d.IsDir() {
			if err == nil && d.Name() == incomingFolder {
				return fs.SkipDir
			}
			return err
		}
		blob, err := filepath.Rel(l.folder, path)
		if err != nil || !strings.HasPrefix(filepath.ToSlash(blob), prefix) {
			return err
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		return each(filepath.ToSlash(blob), info.Size())
	})
}

// Delete implements Store.
func (l *Local) Delete(_ context.Context, blob string) error {
	path, err := l.path(blob)
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("delete blob %s: %w", blob, err)
	}
	return nil
}
