package data

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

// readsAtOnce is how many files are read at a time.
const readsAtOnce = 4

// writer sends items, after it has read the files of those that have one.
type writer struct {
	c     *client.Client
	draft *client.Snapshot
	keep  bool
	dry   bool

	mutex  sync.Mutex
	count  int64
	waits  []dataset.Item // whose bytes are not known to be kept yet
	chunks map[string][]byte
	held   int
}

func (a *Commands) begin(ctx context.Context, in *api.NewDraft, keep bool) (*writer, error) {
	c := a.Client()
	draft, err := client.BeginSnapshot(ctx, c, in)
	if err != nil {
		return nil, err
	}
	return &writer{c: c, draft: draft, keep: keep, chunks: map[string][]byte{}}, nil
}

// commit has the snapshot made of what was sent.
func (a *Commands) commit(ctx context.Context, w *writer) (*api.Snapshot, error) {
	return w.draft.Commit(ctx, func(s *api.Snapshot) {
		fmt.Fprintf(a.Err, "Making the snapshot: %.0f %%. The service finishes it even if you interrupt this command.\n",
			100*s.Progress)
	})
}

// files takes items, each with the path of its file or "", reads some files at once, and sends the items.
func (w *writer) files(ctx context.Context, m *term.Meter,
	each func(take func(dataset.Item, string) error) error) error {
	group, working := errgroup.WithContext(ctx)
	group.SetLimit(readsAtOnce)
	err := each(func(it dataset.Item, path string) error {
		if err := working.Err(); err != nil {
			return context.Cause(working)
		}
		if path == "" {
			return w.put(it)
		}
		group.Go(func() error {
			read, err := w.read(working, it, path)
			if err != nil {
				return err
			}
			if m != nil {
				m.Add(read.Size)
			}
			return w.put(read)
		})
		return nil
	})
	if failed := group.Wait(); failed != nil {
		return failed
	}
	if err != nil {
		return err
	}
	return w.flush(ctx)
}

// put sends an item, or holds it back until its bytes are kept.
func (w *writer) put(it dataset.Item) error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.count++
	switch {
	case w.dry:
		return nil
	case it.Kept:
		w.waits = append(w.waits, it)
		return nil
	}
	return w.draft.Add(it)
}

// Bounds of what is held before it is sent: bytes and chunks.
const (
	mostHeld   = 16 << 20
	mostChunks = 2000
)

// hold takes a chunk that is to be kept.
func (w *writer) hold(ctx context.Context, d chunk.Digest, data []byte) error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if _, known := w.chunks[d.String()]; !known {
		w.chunks[d.String()] = bytes.Clone(data)
		w.held += len(data)
	}
	if w.held < mostHeld && len(w.chunks) < mostChunks {
		return nil
	}
	return w.sendChunks(ctx)
}

// sendChunks sends the chunks that are held and that the service lacks, some at once. The mutex is held.
func (w *writer) sendChunks(ctx context.Context) error {
	if len(w.chunks) == 0 {
		return nil
	}
	if err := client.SendChunks(ctx, w.c, w.chunks); err != nil {
		return err
	}
	w.chunks, w.held = map[string][]byte{}, 0
	return w.sendWaiting()
}

// sendWaiting sends the items whose chunks are all there by now. The mutex is held.
func (w *writer) sendWaiting() error {
	for _, it := range w.waits {
		if err := w.draft.Add(it); err != nil {
			return err
		}
	}
	w.waits = w.waits[:0]
	return nil
}

// flush sends what is held.
func (w *writer) flush(ctx context.Context) error {
	if w.dry {
		return nil
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if err := w.sendChunks(ctx); err != nil {
		return err
	}
	return w.sendWaiting()
}

// rooms hold files as they are read.
var rooms = sync.Pool{New: func() any { b := make([]byte, chunk.MaxSize); return &b }}

// read reads the file of an item: its digest, whether it is blank, what it is compared by, and its chunks where they
// are kept. A file that changes meanwhile is an error.
func (w *writer) read(ctx context.Context, it dataset.Item, path string) (dataset.Item, error) {
	f, err := os.Open(path)
	if err != nil {
		return it, err
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return it, err
	}
	if !before.Mode().IsRegular() {
		return it, fmt.Errorf("%s is no file", path)
	}
	hash := chunk.NewHash()
	room := rooms.Get().(*[]byte)
	defer rooms.Put(room)
	buffer := *room
	it.Size, it.Blank = 0, true
	var pieces []chunk.Piece
	var first byte
	for {
		n, err := io.ReadFull(f, buffer)
		data := buffer[:n]
		if n > 0 {
			if it.Size == 0 {
				first = data[0]
				if n < len(buffer) && dataset.MediaOf(data).Kind == "text" {
					it.Near = dataset.FoldText(data)
				}
			}
			it.Blank = it.Blank && bytes.Count(data, []byte{first}) == n
			it.Size += int64(n)
			hash.Write(data)
			if w.keep && !w.dry {
				d := chunk.Sum(data)
				pieces = append(pieces, chunk.Piece{Digest: d, Size: int64(n)})
				if err := w.hold(ctx, d, data); err != nil {
					return it, err
				}
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return it, err
		}
		if err := ctx.Err(); err != nil {
			return it, err
		}
	}
	after, err := f.Stat()
	if err != nil {
		return it, err
	}
	if after.Size() != it.Size || !after.ModTime().Equal(before.ModTime()) {
		return it, fmt.Errorf("%s changed while it was read; add the snapshot when nobody writes to its files", path)
	}
	it.Digest, it.Blank = hash.Digest(), it.Blank && it.Size > 0
	if it.Kept = w.keep && it.Size > 0; it.Kept && len(pieces) > 1 {
		it.Pieces = chunk.Pack(pieces)
	}
	return it, nil
}
