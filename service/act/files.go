package act

import (
	"context"
	"maps"
	"slices"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/store"
	"kembrel/store/pack"
	"kembrel/store/pg/db"
)

// ToFiles checks the files of a manifest and lists their chunks with sizes.
func ToFiles(in []api.File) (files []store.File, chunks map[chunk.Digest]int64, total int64, err error) {
	chunks, seen := map[chunk.Digest]int64{}, map[string]bool{}
	bad := func(format string, args ...any) ([]store.File, map[chunk.Digest]int64, int64, error) {
		return nil, nil, 0, api.Fail(api.Invalid, format, args...)
	}
	for _, f := range in {
		if err := checkpoint.CheckPath(f.Path); err != nil {
			return bad("%v", err)
		}
		if err := checkpoint.CheckPart(f.Part); err != nil {
			return bad("%v", err)
		}
		if seen[f.Path] {
			return bad("file %q is there twice", f.Path)
		}
		seen[f.Path] = true
		whole, err := chunk.ParseDigest(f.Digest)
		if err != nil {
			return bad("file %q: %v", f.Path, err)
		}
		var pieces []chunk.Piece
		var size int64
		for _, c := range f.Chunks {
			d, err := chunk.ParseDigest(c.Digest)
			if err != nil {
				return bad("file %q: %v", f.Path, err)
			}
			if c.Size < 1 || c.Size > chunk.MaxSize {
				return bad("file %q: a chunk of %d bytes", f.Path, c.Size)
			}
			if known, twice := chunks[d]; twice && known != c.Size {
				return bad("file %q: chunk %s has two sizes", f.Path, d)
			}
			chunks[d] = c.Size
			pieces = append(pieces, chunk.Piece{Digest: d, Size: c.Size})
			size += c.Size
		}
		if size != f.Size {
			return bad("file %q has %d bytes, its chunks %d", f.Path, f.Size, size)
		}
		if len(pieces) == 1 && pieces[0].Digest != whole {
			return bad("file %q is one chunk, but its digest is another", f.Path)
		}
		total += size
		files = append(files, store.File{Path: f.Path, Part: f.Part, Size: size, Digest: whole[:],
			Chunks: chunk.Pack(pieces)})
	}
	for path := range seen {
		for other := range seen {
			if len(other) > len(path) && other[:len(path)] == path && other[len(path)] == '/' {
				return bad("%q is both a file and a folder", path)
			}
		}
	}
	return files, chunks, total, nil
}

// Safe makes chunks durable, before a manifest names them, and looks whether the packs that hold them are as long as
// they are to be; what is not is to be sent again.
func (s *Act) Safe(ctx context.Context, packs *pack.Packs, chunks map[chunk.Digest]int64) error {
	if err := packs.Flush(ctx); err != nil {
		if db.Away(err) {
			return err
		}
		s.Log.Error("make chunks safe", "err", err)
		return api.Fail(api.Unavailable, "the chunks could not be made safe: %v", err)
	}
	places, err := packs.Places(ctx, slices.Collect(maps.Keys(chunks)))
	if err != nil {
		return err
	}
	lost, err := packs.Lost(ctx, places)
	if err != nil {
		return err
	}
	for d := range lost {
		return api.Fail(api.Conflict,
			"chunk %s was lost from the blob store; send what chunks/missing names, then commit again", d)
	}
	return nil
}

// Chunks is a transaction that counts chunks as used.
type Chunks interface {
	UseChunks(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]int64, error)
}

// UseChunks counts the chunks of what is being committed as used, which keeps them from being cleaned away.
func UseChunks(ctx context.Context, q Chunks, chunks map[chunk.Digest]int64) error {
	known, err := q.UseChunks(ctx, slices.Collect(maps.Keys(chunks)))
	if err != nil {
		return err
	}
	for d, size := range chunks {
		have, ok := known[d]
		if !ok {
			return api.Fail(api.Conflict,
				"chunk %s has not been sent; send what chunks/missing names, then commit again", d)
		}
		if have != size {
			return api.Fail(api.Mismatch, "chunk %s has %d bytes, not %d", d, have, size)
		}
	}
	return nil
}
