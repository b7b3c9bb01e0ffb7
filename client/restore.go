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
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/host"
)

// stretchesAtOnce is how many requests are on their way together.
const stretchesAtOnce = 4

// IsExists reports whether Restore found a file in its way.
func IsExists(err error) bool { return errors.Is(err, fs.ErrExist) }

// Restore writes files of a checkpoint below into. All are fetched into a folder beside, every chunk and file is
// checked against its digest, all is made durable, and only then do they appear under their names. Without overwrite a
// file that is there is an error for which IsExists holds, and nothing is written. What had arrived when it was cut off
// stays in the folder beside, so that the same restore goes on from there. got is told the bytes as they arrive, by
// several goroutines at once.
func Restore(ctx context.Context, c *Client, in api.CheckpointInput, files []api.File, into string, overwrite bool,
	got func(int64)) error {
	return RestoreFrom(ctx, OfCheckpoint(c, in), files, into, overwrite, got)
}

// Source opens a part of a file, given as a Range header gives it.
type Source func(ctx context.Context, path, part string) (io.ReadCloser, error)

// OfCheckpoint opens files of a checkpoint.
func OfCheckpoint(c *Client, in api.CheckpointInput) Source {
	return func(ctx context.Context, path, part string) (io.ReadCloser, error) {
		return Stream(ctx, c, api.GetFile, &api.FileInput{CheckpointInput: in, Path: path, Range: part})
	}
}

// OfEdition opens files of an edition.
func OfEdition(c *Client, in api.EditionInput) Source {
	return func(ctx context.Context, path, part string) (io.ReadCloser, error) {
		return Stream(ctx, c, api.GetEditionFile, &api.EditionFileInput{EditionInput: in, Path: path, Range: part})
	}
}

// RestoreFrom is Restore of files from anywhere.
func RestoreFrom(ctx context.Context, from Source, files []api.File, into string, overwrite bool,
	got func(int64)) error {
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
	beside, unlock, err := folderBeside(into, files)
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
	for try := 0; ; try++ {
		err := fetchAll(ctx, from, files, beside, got)
		if err == nil {
			break
		}
		if try > 0 || !errors.Is(err, errOther) {
			return err
		}
		got = func(int64) {} // the chunks that are damaged are found and fetched again
	}
	done = true
	return appear(beside, into, files, overwrite)
}

// errOther says that a file is not the one that its digest names.
var errOther = errors.New("nothing was written")

// fetchAll fetches what is not there yet of the files, checks each whole against its digest while it arrives, and makes
// them durable.
func fetchAll(ctx context.Context, from Source, files []api.File, beside string, got func(int64)) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(stretchesAtOnce)
	var checks errgroup.Group
	var problem error
	for _, f := range files {
		path := filepath.Join(beside, filepath.FromSlash(f.Path))
		a := newArrival(f.Size)
		checks.Go(func() error { return verify(path, f, a) })
		if problem = fetch(ctx, group, from, f, path, a, got); problem != nil {
			a.end()
			break
		}
	}
	err := group.Wait()
	if err == nil {
		err = problem
	}
	if checked := checks.Wait(); err == nil {
		err = checked
	}
	return err
}

// arrival knows how much of a file is there from its beginning on.
type arrival struct {
	mutex  sync.Mutex
	more   *sync.Cond
	upto   int64
	size   int64
	beyond map[int64]int64 // stretches behind a gap, by where they begin
	made   bool            // the file is there
	over   bool
}

func newArrival(size int64) *arrival {
	a := &arrival{size: size, beyond: map[int64]int64{}}
	a.more = sync.NewCond(&a.mutex)
	return a
}

func (a *arrival) add(from, size int64) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.beyond[from] = from + size
	for to, ok := a.beyond[a.upto]; ok; to, ok = a.beyond[a.upto] {
		delete(a.beyond, a.upto)
		a.upto = to
	}
	a.more.Broadcast()
}

// begin says that the file is there.
func (a *arrival) begin() {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.made = true
	a.more.Broadcast()
}

// end says that no more comes.
func (a *arrival) end() {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.over = true
	a.more.Broadcast()
}

// wait returns when more than so much is there, or all, or no more comes.
func (a *arrival) wait(than int64) (upto int64, whole bool) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	for !a.over && (!a.made || a.upto <= than && a.upto < a.size) {
		a.more.Wait()
	}
	return a.upto, a.made && a.upto >= a.size
}

// folderBeside makes the folder that a restore of these files gathers them in, or finds what an earlier one left, and
// holds it.
func folderBeside(into string, files []api.File) (path string, unlock func(), err error) {
	h := chunk.NewHash()
	for _, f := range files {
		fmt.Fprintf(h, "%q %s\n", f.Path, f.Digest)
	}
	path = filepath.Join(into, ".kembrel-restore-"+strings.TrimPrefix(h.Digest().String(), "b3:")[:16])
	if err := os.Mkdir(path, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", nil, fmt.Errorf("restore into %s: %w", into, err)
	}
	// The name can be predicted, so in a folder that others write to somebody else may have made it, or a link of that
	// name.
	switch unlock, err = host.HoldFolder(path); {
	case errors.Is(err, host.ErrHeld):
		err = errors.New("another restore of the same files is at work there")
	case errors.Is(err, host.ErrNotOurs):
		err = fmt.Errorf("%s belongs to somebody else, or others may write to it; remove it, or restore into another folder",
			path)
	}
	if err != nil {
		return "", nil, fmt.Errorf("restore into %s: %w", into, err)
	}
	return path, unlock, nil
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
func fetch(ctx context.Context, group *errgroup.Group, from Source, f api.File, path string, a *arrival,
	got func(int64)) error {
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
	a.begin()
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
			a.add(at, pieces[0].Size)
			at, pieces = at+pieces[0].Size, pieces[1:]
			continue
		}
		n, size := 0, int64(0)
		for n < len(pieces) && size < stretchSize && (n == 0 || !here(at+size, pieces[n])) {
			size += pieces[n].Size
			n++
		}
		s := stretch{name: f.Path, path: path, from: at, size: size, pieces: pieces[:n], arrival: a}
		group.Go(func() error {
			if err := s.fetch(ctx, from, got); err != nil {
				a.end()
				return fmt.Errorf("restore %s: %w", f.Path, err)
			}
			return nil
		})
		at, pieces = at+size, pieces[n:]
	}
	return nil
}

// restoreTries is how often a stretch is asked for again, with pauses of 0.2 s, doubling: 6 s in all.
const restoreTries = 4

// stretchSize is about how much one request fetches, in bytes.
const stretchSize = 32 << 20

// stretch is some chunks of a file that follow each other.
type stretch struct {
	name, path string
	from, size int64
	pieces     []api.Piece
	arrival    *arrival
}

// fetch downloads a stretch, again if it was cut off or damaged on the way, from the first chunk that is not there yet.
func (s *stretch) fetch(ctx context.Context, from Source, got func(int64)) error {
	f, err := os.OpenFile(s.path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	for try := 0; ; try++ {
		err := s.download(ctx, from, f, got)
		if err == nil {
			return f.Close()
		}
		var problem *api.Problem
		switch {
		case ctx.Err() != nil || errors.As(err, &problem) && problem.Status < 500:
			return err
		case try >= restoreTries && problem == nil:
			return fmt.Errorf("given up after %d tries: the service ended its answer %d bytes into %s each time; its log says why, kembrel blobs check what is damaged: %w", try+1, s.from, s.name, err)
		case try >= restoreTries:
			return fmt.Errorf("given up after %d tries: %w", try+1, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(200<<try) * time.Millisecond):
		}
	}
}

// download writes chunk after chunk and takes those that are done off the stretch. The service has checked each; here
// the whole file is.
func (s *stretch) download(ctx context.Context, from Source, to *os.File, got func(int64)) error {
	body, err := from(ctx, s.name, fmt.Sprintf("bytes=%d-%d", s.from, s.from+s.size-1))
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
		if _, err := to.WriteAt(data, s.from); err != nil {
			return err
		}
		s.arrival.add(s.from, p.Size)
		s.from, s.size, s.pieces = s.from+p.Size, s.size-p.Size, s.pieces[1:]
		got(p.Size)
	}
	return nil
}

// verify computes the digest of a file while it arrives, compares it, and makes the file durable. The disk begins
// before all is there.
func verify(path string, f api.File, a *arrival) error {
	hash, buffer := chunk.NewHash(), make([]byte, 1<<20)
	var file *os.File
	for at, written := int64(0), int64(0); ; {
		upto, whole := a.wait(at)
		if !whole && upto == at {
			return nil // it was cut off: who did says why
		}
		if file == nil {
			var err error
			if file, err = os.OpenFile(path, host.ToSync, 0); err != nil {
				return fmt.Errorf("restore: %w", err)
			}
			defer file.Close()
		}
		for at < upto {
			n, err := file.ReadAt(buffer[:min(int64(len(buffer)), upto-at)], at)
			if n == 0 && err != nil {
				return fmt.Errorf("restore %s: %w", f.Path, err)
			}
			hash.Write(buffer[:n])
			at += int64(n)
		}
		if at-written >= writeBack {
			host.BeginWriting(file, written, at-written)
			written = at
		}
		if whole {
			break
		}
	}
	if got := hash.Digest().String(); got != f.Digest {
		return fmt.Errorf("restore %s: it is %s, not %s; %w", f.Path, got, f.Digest, errOther)
	}
	if err := file.Sync(); err != nil {
		return fmt.Errorf("restore %s: %w", f.Path, err)
	}
	return nil
}

// writeBack is how much of a file waits in memory until the disk is told to begin with it.
const writeBack = 16 << 20

// appear gives the files their names. Without overwrite a name that was taken meanwhile stops it, and those already
// given are taken back.
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
		host.SyncFolder(d)
	}
	return nil
}
