package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
)

// stretchesAtOnce is how many requests are on their way together.
const stretchesAtOnce = 4

// IsExists reports whether Restore found a file in its way.
func IsExists(err error) bool { return errors.Is(err, fs.ErrExist) }

// Restore writes files of a checkpoint below into. All are fetched into a folder beside, every chunk and file is checked
// against its digest, all is made durable, and only then do they appear under their names. Without overwrite a file that is there
// is an error for which IsExists holds, and nothing is written. What had arrived when it was cut off stays in the folder beside, so that the same
// restore goes on from there. got is told the bytes as they arrive.
func Restore(ctx context.Context, c *Client, in api.CheckpointInput, files []api.File, into string, overwrite bool, got func(int64)) error {
	for _, f := range files {
		if err := checkpoint.CheckPath(f.Path); err != nil {
			return fmt.Errorf("the service names a file that cannot be restored: %w", err)
		}
	}
	made, err := makeFolder(into)
	if err != nil {
		return err
	}
	if err := inTheWay(into, files, overwrite); err != nil {
		return err
	}
	beside, unlock, err := folderBeside(into, in, files)
	if err != nil {
		return err
	}
	done, arrived, tell := false, atomic.Int64{}, got
	got = func(n int64) { arrived.Add(n); tell(n) }
	defer func() {
		if unlock(); done || arrived.Load() == 0 {
			os.RemoveAll(beside)
		}
		if made {
			os.Remove(into) // only if it stayed empty
		}
	}()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(stretchesAtOnce)
	for _, f := range files {
		if err := fetch(ctx, group, c, in, f, filepath.Join(beside, filepath.FromSlash(f.Path)), got); err != nil {
			return err
		}
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, f := range files {
		if err := verify(filepath.Join(beside, filepath.FromSlash(f.Path)), f); err != nil {
			return err
		}
	}
	done = true
	return appear(beside, into, files, overwrite)
}

// folderBeside makes the folder that a restore of these files gathers them in, or finds what an earlier one left, and holds it.
func folderBeside(into string, in api.CheckpointInput, files []api.File) (path string, unlock func(), err error) {
	h := chunk.NewHash()
	for _, f := range files {
		fmt.Fprintf(h, "%q %s\n", f.Path, f.Digest)
	}
	path = filepath.Join(into, ".kembrel-restore-"+strings.TrimPrefix(h.Digest().String(), "b3:")[:16])
	if err := os.MkdirAll(path, 0o700); err != nil {
		return "", nil, fmt.Errorf("restore into %s: %w", into, err)
	}
	folder, err := os.Open(path)
	if err != nil {
		return "", nil, fmt.Errorf("restore into %s: %w", into, err)
	}
	if err := syscall.Flock(int(folder.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		folder.Close()
		return "", nil, fmt.Errorf("restore into %s: another restore of the same files is at work there", into)
	}
	return path, func() { folder.Close() }, nil
}

func makeFolder(into string) (made bool, err error) {
	if info, err := os.Stat(into); err == nil {
		if !info.IsDir() {
			return false, fmt.Errorf("restore: %s is not a folder", into)
		}
		return false, nil
	}
	if err := os.MkdirAll(into, 0o755); err != nil {
		return false, fmt.Errorf("restore: %w", err)
	}
	return true, nil
}

func inTheWay(into string, files []api.File, overwrite bool) error {
	for _, f := range files {
		at := into
		parts := strings.Split(f.Path, "/")
		for i, part := range parts {
			at = filepath.Join(at, part)
			info, err := os.Lstat(at)
			switch {
			case errors.Is(err, fs.ErrNotExist):
			case err != nil:
				return fmt.Errorf("restore: %w", err)
			case i < len(parts)-1 && !info.IsDir(), i == len(parts)-1 && info.IsDir():
				return fmt.Errorf("restore: %s is in the way and of another kind", at)
			case i == len(parts)-1 && !overwrite:
				return fmt.Errorf("restore: %s is there already: %w", at, fs.ErrExist)
			}
		}
	}
	return nil
}

// fetch starts the downloads of a file into the file at path.
func fetch(ctx context.Context, group *errgroup.Group, c *Client, in api.CheckpointInput, f api.File, path string, got func(int64)) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	if err := file.Truncate(f.Size); err != nil {
		return fmt.Errorf("restore %s: %w", f.Path, err)
	}
	whole := int64(0)
	for _, p := range f.Chunks {
		if p.Size < 1 || p.Size > chunk.MaxSize {
			return fmt.Errorf("the service sent a manifest that cannot be right: a chunk of %d bytes", p.Size)
		}
		whole += p.Size
	}
	if whole != f.Size {
		return fmt.Errorf("restore %s: it has %d bytes, and chunks for %d", f.Path, f.Size, whole)
	}
	here := func(int64, api.Piece) bool { return false }
	if info.Size() == f.Size { // an earlier restore was cut off
		buffer := make([]byte, chunk.MaxSize)
		here = func(at int64, p api.Piece) bool {
			n, _ := file.ReadAt(buffer[:p.Size], at)
			return int64(n) == p.Size && chunk.Sum(buffer[:n]).String() == p.Digest
		}
	}
	var at int64
	for pieces := f.Chunks; len(pieces) > 0; {
		if here(at, pieces[0]) {
			got(pieces[0].Size)
			at, pieces = at+pieces[0].Size, pieces[1:]
			continue
		}
		n, size := 0, int64(0)
		for n < len(pieces) && size < stretchSize && (n == 0 || !here(at+size, pieces[n])) {
			size += pieces[n].Size
			n++
		}
		s := stretch{name: f.Path, path: path, from: at, size: size, pieces: pieces[:n]}
		group.Go(func() error {
			if err := s.fetch(ctx, c, in, got); err != nil {
				return fmt.Errorf("restore %s: %w", f.Path, err)
			}
			return nil
		})
		at, pieces = at+size, pieces[n:]
	}
	return nil
}

// stretchSize is about how much one request fetches, in bytes.
const stretchSize = 32 << 20

// stretch is some chunks of a file that follow each other.
type stretch struct {
	name, path string
	from, size int64
	pieces     []api.Piece
}

// fetch downloads a stretch, again if it was cut off or damaged on the way, from the first chunk that is not there yet.
func (s *stretch) fetch(ctx context.Context, c *Client, in api.CheckpointInput, got func(int64)) error {
	f, err := os.OpenFile(s.path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	for try := 0; ; try++ {
		err := s.download(ctx, c, in, f, got)
		if err == nil {
			return f.Close()
		}
		var problem *api.Problem
		if try == 4 || ctx.Err() != nil || errors.As(err, &problem) && problem.Status < 500 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(200<<try) * time.Millisecond):
		}
	}
}

// download writes chunk after chunk, each once its digest is checked, and takes those that are done off the stretch.
func (s *stretch) download(ctx context.Context, c *Client, in api.CheckpointInput, to io.WriterAt, got func(int64)) error {
	body, err := Stream(ctx, c, api.GetFile, &api.FileInput{CheckpointInput: in, Path: s.name, Range: fmt.Sprintf("bytes=%d-%d", s.from, s.from+s.size-1)})
	if err != nil {
		return err
	}
	defer body.Close()
	buffer := make([]byte, chunk.MaxSize)
	for len(s.pieces) > 0 {
		p := s.pieces[0]
		data := buffer[:p.Size]
		if _, err := io.ReadFull(body, data); err != nil {
			return fmt.Errorf("download cut short: %w", err)
		}
		if chunk.Sum(data).String() != p.Digest {
			return fmt.Errorf("bytes %d to %d arrived damaged", s.from, s.from+p.Size-1)
		}
		if _, err := to.WriteAt(data, s.from); err != nil {
			return err
		}
		s.from, s.size, s.pieces = s.from+p.Size, s.size-p.Size, s.pieces[1:]
		got(p.Size)
	}
	return nil
}

// verify checks a whole file against its digest and makes it durable.
func verify(path string, f api.File) error {
	file, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	defer file.Close()
	safe := make(chan error, 1)
	go func() { safe <- file.Sync() }() // the disk works while the digest is computed
	hash := chunk.NewHash()
	_, err = io.CopyBuffer(struct{ io.Writer }{hash}, struct{ io.Reader }{file}, make([]byte, 1<<20))
	if synced := <-safe; err == nil {
		err = synced
	}
	if err != nil {
		return fmt.Errorf("restore %s: %w", f.Path, err)
	}
	if got := hash.Digest().String(); got != f.Digest {
		return fmt.Errorf("restore %s: it is %s, not %s; nothing was written", f.Path, got, f.Digest)
	}
	return nil
}

// appear gives the files their names. Without overwrite a name that was taken meanwhile stops it, and those already given are
// taken back.
func appear(beside, into string, files []api.File, overwrite bool) error {
	var given []string
	folders := map[string]bool{into: true}
	for _, f := range files {
		from, to := filepath.Join(beside, filepath.FromSlash(f.Path)), filepath.Join(into, filepath.FromSlash(f.Path))
		err := os.MkdirAll(filepath.Dir(to), 0o755)
		if err == nil && overwrite {
			err = os.Rename(from, to)
		} else if err == nil {
			err = os.Link(from, to) // fails where the name is taken
		}
		if err != nil {
			if !overwrite {
				for _, g := range given {
					os.Remove(g)
				}
			}
			return fmt.Errorf("restore %s: %w", f.Path, err)
		}
		given = append(given, to)
		folders[filepath.Dir(to)] = true
	}
	for d := range folders {
		if f, err := os.Open(d); err == nil {
			f.Sync()
			f.Close()
		}
	}
	return nil
}
