package checkpoints

import (
	"context"
	"errors"
	"io"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/service/act"
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
	found.Path = in.Path
	content, err := s.read(ctx, found.File)
	if err == nil {
		err = content.Prime(act.RangeStart(in.Range))
	}
	if err != nil {
		return nil, api.File{}, time.Time{}, err
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

// Content reads a file from its chunks.
func (s *Checkpoints) Content(ctx context.Context, f store.File) (io.ReadSeeker, error) {
	return s.read(ctx, f)
}

func (s *Checkpoints) read(ctx context.Context, f store.File) (*pack.Reader, error) {
	pieces, err := chunk.Unpack(f.Chunks)
	return s.chunks.NewReader(ctx, f.Path, pieces), err
}
