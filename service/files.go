package service

import (
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/store/pack"
	"kembrel/store/pg"
)

// OpenFile opens a file of a checkpoint for reading at any place; every chunk's digest is checked as it is read.
func (s *Service) OpenFile(ctx context.Context, in *api.FileInput) (io.ReadSeeker, api.File, time.Time, error) {
	c, files, _, err := s.findHeld(ctx, in.CheckpointInput)
	if err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	i := slices.IndexFunc(files, func(f pg.File) bool { return f.Path == in.Path })
	if i < 0 {
		return nil, api.File{}, time.Time{}, api.Fail(api.NotFound, "%s has no file %q", c.Address, in.Path)
	}
	content, err := s.content(ctx, files[i])
	if err != nil {
		return nil, api.File{}, time.Time{}, err
	}
	f := api.File{Part: files[i].Part, Path: in.Path, Size: files[i].Size, Digest: chunk.Digest(files[i].Digest).String()}
	return content, f, c.Saved, nil
}

// content reads a file from its chunks.
func (s *Service) content(ctx context.Context, f pg.File) (*fileReader, error) {
	pieces, err := chunk.Unpack(f.Chunks)
	return &fileReader{ctx: ctx, chunks: s.chunks, pieces: pieces, size: f.Size}, err
}

// fileReader reads the chunks of a file one after another, each checked before a byte of it is given out.
type fileReader struct {
	ctx    context.Context
	chunks *pack.Packs
	places map[chunk.Digest]pack.Place
	pieces []chunk.Piece
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
			return err
		}
		r.loaded, r.from = data, from
		return nil
	}
	return io.ErrUnexpectedEOF
}
