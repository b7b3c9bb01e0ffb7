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
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chunk"
	"kembrel/core/tensor"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// sheetTime is how long the service may take to assess a prediction sheet.
const sheetTime = 35 * time.Minute

// uploadsAtOnce is how many chunks are on their way together.
const uploadsAtOnce = 4

// sendHanded sends the chunks that the service lacks of a checkpoint or a prediction sheet, then commits it. One that
// the service refuses for good is set aside and does not hold up the others.
func (s *sender) sendHanded(ctx context.Context, m spool.Manifest) error {
	folder := s.spool.KeptFolder(m.Key)
	if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
		return nil // committed before
	}
	commit := s.commitCheckpoint
	switch m.Kind() {
	case protocol.Sheet:
		commit = s.addSheet
	case protocol.FileKind:
		commit = s.addFile
	}
	early := s.takeEarly(m.Key)
	for try := 0; ; try++ {
		var files []api.File
		var err error
		if early != nil {
			files, err = early.wait(ctx)
			early = nil
		}
		if files == nil || err != nil {
			files, err = s.cutAndSend(ctx, folder, folder, m.Files)
		}
		if err == nil {
			limit := callTime
			if m.Kind() == protocol.Sheet {
				limit = sheetTime
			}
			err = s.tryItemWithin(ctx, limit, func(ctx context.Context) error { return commit(ctx, m, files) })
		}
		switch {
		case err == nil:
			if m.Kind() == protocol.Checkpoint {
				s.stored.Add(1)
			}
			s.settled.Store(0)
			return s.spool.Forget(m.Key)
		case ctx.Err() != nil:
			return ctx.Err()
		case api.Is(err, api.LegClaimed):
			s.advise(err.Error())
			return err
		case try < 2 && (api.Is(err, api.Conflict) || api.Is(err, api.Mismatch)):
			continue // chunks were cleaned away or damaged on the way: send what is missing now
		case m.Kind() != protocol.Checkpoint && (api.Is(err, api.Invalid) || api.Is(err, api.TooLarge)):
			return s.refuseHanded(m, err)
		}
		return s.setAside(m, err)
	}
}

// commitCheckpoint commits a checkpoint whose chunks are with the service.
func (s *sender) commitCheckpoint(ctx context.Context, m spool.Manifest, files []api.File) error {
	in := &api.NewCheckpoint{LegInput: s.leg, Key: m.Key}
	in.Body.Step, in.Body.Epoch, in.Body.Why, in.Body.Figures, in.Body.Saved = m.Step, m.Epoch, m.Why,
		m.Figures, m.Saved
	in.Body.Files = files
	_, err := client.Call(ctx, s.via(), api.CommitCheckpoint, in)
	return err
}

// early is a checkpoint that is cut and sent while the spool still makes it durable. It is committed only when it is.
type early struct {
	key   string
	done  chan struct{}
	files []api.File
	err   error
}

func (e *early) wait(ctx context.Context) ([]api.File, error) {
	select {
	case <-e.done:
		return e.files, e.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// sendEarly sends what comes until ctx ends.
func (s *sender) sendEarly(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case m := <-s.coming:
			e := &early{key: m.Key, done: make(chan struct{})}
			s.mutex.Lock()
			s.early = e
			s.mutex.Unlock()
			e.files, e.err = s.cutAndSend(ctx, s.spool.OpenFolder(m.Key), s.spool.KeptFolder(m.Key), m.Files)
			close(e.done)
		}
	}
}

// come has a checkpoint sent early, unless the one before is still on its way.
func (s *sender) come(m spool.Manifest) {
	select {
	case s.coming <- m:
	default:
	}
}

// takeEarly is the sending of a checkpoint that began early; nil: it did not.
func (s *sender) takeEarly(key string) *early {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	e := s.early
	if e == nil || e.key != key {
		return nil
	}
	s.early = nil
	return e
}

func (s *sender) setAside(m spool.Manifest, why error) error {
	what := fmt.Sprintf("checkpoint of step %d", m.Step)
	switch m.Kind() {
	case protocol.Sheet:
		what = fmt.Sprintf("prediction sheet of step %d", m.Step)
	case protocol.FileKind:
		what = "file " + m.Path
	case protocol.Items:
		what = "list of items for " + m.Items.For
	}
	s.putAside(fmt.Errorf("%s: %w", what, why))
	s.say("%s: %v; it stays in the spool", what, why)
	s.remark(fmt.Sprintf("The %s is not with the service: %s. It is kept in the spool %s on the machine that recorded it.", what, problemOf(why), filepath.Base(s.spool.Folder)))
	return nil
}

// askedAtOnce is how many chunks are asked for together at most while a file is still being cut.
const askedAtOnce = 32

// cutAndSend cuts files and sends what the service lacks of them while the rest is still being cut. The folder may
// become the other meanwhile.
func (s *sender) cutAndSend(ctx context.Context, folder, other string, list []spool.ManifestFile) ([]api.File, error) {
	type located struct {
		digest string
		place
	}
	cut := make(chan located, askedAtOnce)
	group, ctx := errgroup.WithContext(ctx)
	files := make([]api.File, len(list))
	group.Go(func() error {
		defer close(cut)
		for i, f := range list {
			path := filepath.FromSlash(f.Path)
			open := func() (*os.File, error) {
				file, err := os.Open(filepath.Join(folder, path))
				if errors.Is(err, fs.ErrNotExist) {
					return os.Open(filepath.Join(other, path))
				}
				return file, err
			}
			file, err := cutFile(open, f.Cut, func(p chunk.Piece, at int64) error {
				select {
				case cut <- located{p.Digest.String(), place{open, at, p.Size}}:
					return nil
				case <-ctx.Done():
					return ctx.Err()
				}
			})
			if err != nil {
				return err
			}
			file.Part, file.Path = f.Part, f.Path
			files[i] = file
		}
		return nil
	})
	group.Go(func() error {
		known := map[string]bool{}
		for first := range cut {
			places := map[string]place{}
			for next, more := first, true; more; {
				if !known[next.digest] {
					known[next.digest] = true
					places[next.digest] = next.place
				}
				if len(places) == askedAtOnce {
					break
				}
				select {
				case next, more = <-cut:
				default:
					more = false
				}
			}
			if err := s.sendMissing(ctx, places); err != nil {
				return err
			}
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return files, nil
}

func cutFile(open func() (*os.File, error), cut string, each func(p chunk.Piece, at int64) error) (api.File, error) {
	f, err := open()
	if err != nil {
		return api.File{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return api.File{}, err
	}
	bounds := tensor.Bounds(f, info.Size())
	if len(bounds) == 0 && cut == spool.CutByContent {
		if bounds, err = chunk.ContentBounds(f); err != nil {
			return api.File{}, err
		}
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return api.File{}, err
		}
	}
	pieces, size, whole, err := chunk.CutEach(f, bounds, each)
	out := api.File{Size: size, Digest: whole.String()}
	for _, p := range pieces {
		out.Chunks = append(out.Chunks, api.Piece{Digest: p.Digest.String(), Size: p.Size})
	}
	return out, err
}

// place is where the bytes of a chunk can be read.
type place struct {
	open       func() (*os.File, error)
	from, size int64
}

// sendMissing asks which chunks the service lacks and sends those, some at once.
func (s *sender) sendMissing(ctx context.Context, places map[string]place) error {
	for digests := range slices.Chunk(slices.Sorted(maps.Keys(places)), 10000) {
		ask := &api.DigestListInput{Body: api.DigestList{Digests: digests}}
		var missing *api.DigestList
		if err := s.try(ctx, func(ctx context.Context) (err error) {
			missing, err = client.Call(ctx, s.via(), api.MissingChunks, ask)
			return err
		}); err != nil {
			return err
		}
		group, working := errgroup.WithContext(ctx)
		group.SetLimit(uploadsAtOnce)
		known := int64(0)
		for _, digest := range digests {
			known += places[digest].size
		}
		for _, digest := range missing.Digests {
			known -= places[digest].size
			group.Go(func() error { return s.sendChunk(working, digest, places[digest]) })
		}
		s.settled.Add(known)
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// rooms hold chunks on their way.
var rooms = sync.Pool{New: func() any { b := make([]byte, chunk.MaxSize); return &b }}

func (s *sender) sendChunk(ctx context.Context, digest string, p place) error {
	f, err := p.open()
	if err != nil {
		return err
	}
	defer f.Close()
	room := rooms.Get().(*[]byte)
	data := (*room)[:p.size]
	if _, err := f.ReadAt(data, p.from); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	err = s.tryItem(ctx, func(ctx context.Context) error {
		_, err := client.Call(ctx, s.via(), api.PutChunk, &api.ChunkInput{Digest: digest, RawBody: data})
		return err
	})
	if err == nil && s.full.Swap(false) {
		s.say("the service has room for checkpoints again")
	}
	if err == nil { // after a failure the call may still be reading
		rooms.Put(room)
		s.chunks.Add(p.size)
		s.settled.Add(p.size)
	}
	return err
}

// Limits of the program's output that is sent: a piece, and how far behind its end sending begins when it floods.
const (
	outputPiece = 64 << 10
	outputFlood = 1 << 20
	outputPace  = 400 * time.Millisecond
)

// sendOutputs sends the program's output as it grows until the program is over.
func (s *sender) sendOutputs(ctx context.Context) error {
	for {
		over := s.over()
		for _, stream := range []string{"stdout", "stderr"} {
			if err := s.sendOutput(ctx, stream, over); err != nil {
				return err
			}
		}
		if over {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(outputPace):
		}
	}
}

func (s *sender) sendOutput(ctx context.Context, stream string, whole bool) error {
	f, err := os.Open(filepath.Join(s.spool.Folder, stream))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return nil // a file that cannot be read costs itself
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil
	}
	s.mutex.Lock()
	at := s.state.Stdout
	if stream == "stderr" {
		at = s.state.Stderr
	}
	s.mutex.Unlock()
	at = max(at, info.Size()-outputFlood)
	for buffer := make([]byte, outputPiece); at < info.Size(); {
		n, err := f.ReadAt(buffer, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil
		}
		n = wholeRunes(buffer[:n], whole)
		if n == 0 {
			return nil
		}
		in := &api.OutputInput{LegInput: s.leg}
		in.Body.Stream, in.Body.Offset, in.Body.Size, in.Body.Text = stream, at, int64(n), string(buffer[:n])
		err = s.tryItem(ctx, func(ctx context.Context) error {
			_, err := client.Call(ctx, s.via(), api.SendOutput, in)
			return err
		})
		if ofItem(err) {
			text := fmt.Sprintf("The service refused a piece of the program's output (%s): %s.", stream, problemOf(err))
			if s.told(text) {
				s.say("%s", text)
				s.remark(text)
			}
		} else if err != nil {
			return fmt.Errorf("send output: %w", err)
		}
		at += int64(n)
		s.change(func(st *spool.State) {
			if stream == "stderr" {
				st.Stderr = at
			} else {
				st.Stdout = at
			}
		})
	}
	return nil
}

// wholeRunes returns how many bytes to take so that no character is cut, unless it is the end.
func wholeRunes(b []byte, end bool) int {
	if end {
		return len(b)
	}
	for i := 1; i <= min(utf8.UTFMax, len(b)); i++ {
		if tail := b[len(b)-i:]; utf8.RuneStart(tail[0]) {
			if utf8.FullRune(tail) {
				return len(b)
			}
			return len(b) - i
		}
	}
	return len(b)
}
