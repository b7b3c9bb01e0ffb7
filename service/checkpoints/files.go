package checkpoints

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/store"
	"kembrel/store/pack"
)

// OpenFile opens a file of a checkpoint for reading at any place; every chunk's digest is checked as it is read.
//
// What cannot be read is found out before the first byte goes out: the chunk at the start of the range is here when it
// returns.
func (s *Checkpoints) OpenFile(ctx context.Context, in *api.FileInput) (io.ReadSeeker, api.File, time.Time, error) {
	found, err := s.fileOf(ctx, in)
	if err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	content, err := s.read(ctx, found.File)
	if err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	content.name = in.Path
	if content.at = min(rangeStart(in.Range), max(0, content.size-1)); content.size > 0 {
		if err := content.load(); err != nil {
			return nil, api.File{}, time.Time{}, err
		}
		content.at = 0
	}
	f := api.File{Part: found.Part, Path: in.Path, Size: found.Size, Digest: chunk.Digest(found.Digest).String()}
	return content, f, found.Saved, nil
}

// fileOf finds a file of a checkpoint: one row where the address is of a leg's step, as restoring asks again and again;
// else the run's checkpoints are gone through.
func (s *Checkpoints) fileOf(ctx context.Context, in *api.FileInput) (store.SavedFile, error) {
	if at, err := api.ParseAt(in.At); err == nil && at.Kind == api.AtStep && at.Leg > 0 {
		run, err := s.RunID(ctx, in.RunInput)
		if err != nil {
			return store.SavedFile{}, err
		}
		found, err := s.db.FileAt(ctx, run, at.Leg, at.Step, in.Path)
		if !errors.Is(err, store.ErrNone) {
			return found, err
		} // what is not there is told below
	}
	c, files, _, err := s.FindHeld(ctx, in.CheckpointInput)
	if err != nil {
		return store.SavedFile{}, err
	}
	i := slices.IndexFunc(files, func(f store.File) bool { return f.Path == in.Path })
	if i < 0 {
		return store.SavedFile{}, api.Fail(api.NotFound, "%s has no file %q", c.Address, in.Path)
	}
	return store.SavedFile{File: files[i], Saved: c.Saved}, nil
}

// rangeStart is where the first range of a Range header begins (RFC 9110, section 14.1.2); 0 where it does not say.
func rangeStart(header string) int64 {
	first, _, _ := strings.Cut(strings.TrimPrefix(header, "bytes="), "-")
	at, err := strconv.ParseInt(strings.TrimSpace(first), 10, 64)
	if err != nil || at < 0 {
		return 0
	}
	return at
}

// Content reads a file from its chunks.
func (s *Checkpoints) Content(ctx context.Context, f store.File) (io.ReadSeeker, error) {
	return s.read(ctx, f)
}

func (s *Checkpoints) read(ctx context.Context, f store.File) (*fileReader, error) {
	pieces, err := chunk.Unpack(f.Chunks)
	return &fileReader{ctx: ctx, name: f.Path, chunks: s.chunks, pieces: pieces, size: f.Size}, err
}

// fileReader reads the chunks of a file one after another, each checked before a byte of it is given out.
type fileReader struct {
	ctx    context.Context
	chunks *pack.Packs
	places map[chunk.Digest]pack.Place
	pieces []chunk.Piece
	name   string
	size   int64
	at     int64
	loaded []byte // the chunk around at
	from   int64  // where loaded begins
}

func (r *fileReader) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += r.at
	case io.SeekEnd:
		offset += r.size
	}
	if offset < 0 {
		return 0, fmt.Errorf("seek before the start")
	}
	r.at = offset
	return offset, nil
}

func (r *fileReader) Read(p []byte) (int, error) {
	if r.at >= r.size {
		return 0, io.EOF
	}
	if r.loaded == nil || r.at < r.from || r.at >= r.from+int64(len(r.loaded)) {
		if err := r.load(); err != nil {
			return 0, err
		}
	}
	n := copy(p, r.loaded[r.at-r.from:])
	r.at += int64(n)
	return n, nil
}

func (r *fileReader) load() error {
	var from int64
	for _, piece := range r.pieces {
		if r.at >= from+piece.Size {
			from += piece.Size
			continue
		}
		if r.places == nil { // all at once
			digests := make([]chunk.Digest, len(r.pieces))
			for i, p := range r.pieces {
				digests[i] = p.Digest
			}
			var err error
			if r.places, err = r.chunks.Places(r.ctx, digests); err != nil {
				return err
			}
		}
		data, err := r.chunks.Read(r.ctx, piece.Digest, r.places[piece.Digest])
		if err != nil {
			return unreadable(err, r.name, piece.Digest)
		}
		r.loaded, r.from = data, from
		return nil
	}
	return io.ErrUnexpectedEOF
}

// unreadable says which chunk of a file cannot be read, why, and what to do.
func unreadable(err error, name string, d chunk.Digest) error {
	switch {
	case errors.Is(err, pack.ErrMissing):
		return api.Fail(api.ChunkGone,
			"chunk %s of %s is not where it was kept. The blob store may be away for a moment, or its folder moved: try again, it is looked for each time. Otherwise kembrel blobs check names what is missing; another checkpoint of the run may be whole, and sending the same content again brings it back", d, name)
	case errors.Is(err, pack.ErrDamaged), errors.Is(err, pack.ErrNone):
		return api.Fail(api.ChunkBad,
			"chunk %s of %s is damaged: its bytes are not those it is named by. Restore another checkpoint of the run (kembrel checkpoints lists them); sending the same content again, or a backup, brings it back; kembrel blobs check names what else it hurts", d, name)
	}
	return err
}
