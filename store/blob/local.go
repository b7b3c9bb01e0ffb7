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
)

// Local keeps each blob as a file below a folder.
type Local struct{ folder string }

var name = regexp.MustCompile(`^[a-z0-9-]+(/[a-z0-9-]+)*$`)

// NewLocal opens the folder, making it if it is not there, and removes what an earlier process left half written.
func NewLocal(folder string) (*Local, error) {
	incoming := filepath.Join(folder, incomingFolder)
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, fmt.Errorf("blob folder: %w", err)
	}
	left, err := os.ReadDir(incoming)
	if err != nil {
		return nil, fmt.Errorf("blob folder: %w", err)
	}
	for _, l := range left {
		os.Remove(filepath.Join(incoming, l.Name()))
	}
	return &Local{folder: folder}, nil
}

// incomingFolder cannot be a blob's name.
const incomingFolder = ".incoming"

func (l *Local) path(blob string) (string, error) {
	if !name.MatchString(blob) {
		return "", fmt.Errorf("blob name %.80q is not made of a-z, 0-9, hyphens and slashes", blob)
	}
	return filepath.Join(l.folder, filepath.FromSlash(blob)), nil
}

// Put implements Store: written beside, fsynced, renamed.
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
	return os.Rename(f.Name(), path)
}

// Get implements Store.
func (l *Local) Get(_ context.Context, blob string, offset int64) (io.ReadCloser, error) {
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

// Sync implements Store: each folder on the way is fsynced once; the bytes were when they were put.
func (l *Local) Sync(_ context.Context, names []string) error {
	folders := map[string]bool{}
	for _, n := range names {
		path, err := l.path(n)
		if err != nil {
			return err
		}
		for d := filepath.Dir(path); !folders[d]; d = filepath.Dir(d) {
			folders[d] = true
			if d == filepath.Clean(l.folder) {
				break
			}
		}
	}
	for d := range folders {
		if err := syncFolder(d); err != nil {
			return fmt.Errorf("sync blobs: %w", err)
		}
	}
	return nil
}

func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
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
