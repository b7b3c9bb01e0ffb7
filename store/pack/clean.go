package pack

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/core/chunk"
	"kembrel/store/blob"
)

// Live is how much of a pack the index knows.
type Live struct{ Chunks, Stored int64 }

// Cleaned says what a cleaning did.
type Cleaned struct {
	Packs   int   // deleted
	Freed   int64 // bytes of them
	Rewrote int   // chunks moved out of packs of which less than half was live, or out of the earlier form
}

// Contents is what cleaning asks of the index.
type Contents interface {
	LivePacks(ctx context.Context) (map[string]Live, error)
	ChunksOf(ctx context.Context, pack string) ([]Entry, error)
}

// oldPack is how old a pack must be before it may go: none is written for so long.
const oldPack = 4 * openTime

// Clean moves the live chunks out of packs of which less than half is live, and out of the earlier form, and deletes
// packs of which nothing is. It may be interrupted anywhere, and run beside uploads and on several replicas: a pack
// goes only when the index knows no chunk of it and it is older than any that is being written; a chunk that is moved
// is known at its new place before it is forgotten at the old one.
func (p *Packs) Clean(ctx context.Context, contents Contents) (Cleaned, error) {
	var out Cleaned
	if err := p.blobs.Tidy(ctx); err != nil {
		return out, err
	}
	if err := p.moveAll(ctx, contents, "", &out); err != nil {
		return out, err
	}
	live, err := contents.LivePacks(ctx)
	if err != nil {
		return out, err
	}
	var packs []found
	if err := p.blobs.List(ctx, Name(""), func(name string, size int64) error {
		packs = append(packs, found{strings.TrimPrefix(name, Name("")), size})
		return nil
	}); err != nil {
		return out, err
	}
	small := smallPacks(packs, live, p.old)
	for _, f := range packs {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if !f.isOld(p.old) {
			continue
		}
		l := live[f.name]
		switch {
		case l.Chunks == 0:
			if err := p.blobs.Delete(ctx, Name(f.name)); err != nil {
				return out, err
			}
			out.Packs++
			out.Freed += f.size
		case small[f.name] || l.Stored+l.Chunks*int64(headLen) < f.size/2:
			// It is deleted by a later cleaning, when nobody reads from it any more.
			if err := p.moveAll(ctx, contents, f.name, &out); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

// found is a pack in the blob store.
type found struct {
	name string
	size int64
}

// isOld reports whether a pack was begun so long ago; what is no pack of ours is not.
func (f found) isOld(age time.Duration) bool {
	id, err := uuid.Parse(f.name)
	if err != nil {
		return false
	}
	seconds, nanos := id.Time().UnixTime()
	return time.Since(time.Unix(seconds, nanos)) >= age
}

// A pack below smallPack is moved into a larger one together with others, when there are so many: in a bucket each
// commit makes one.
const (
	smallPack = 8 << 20
	manySmall = 16
)

// smallPacks are the old packs that are small, if there are many.
func smallPacks(packs []found, live map[string]Live, old time.Duration) map[string]bool {
	out := map[string]bool{}
	for _, f := range packs {
		if f.size < smallPack && live[f.name].Chunks > 0 && f.isOld(old) {
			out[f.name] = true
		}
	}
	if len(out) < manySmall {
		return nil
	}
	return out
}

// moveAll moves what is live of a pack.
func (p *Packs) moveAll(ctx context.Context, contents Contents, name string, out *Cleaned) error {
	for {
		entries, err := contents.ChunksOf(ctx, name)
		if err != nil || len(entries) == 0 {
			return err
		}
		var legacy []chunk.Digest
		for _, e := range entries {
			data, err := p.read(ctx, e.Digest, e.Place)
			if errors.Is(err, ErrDamaged) || errors.Is(err, blob.ErrNone) {
				mark := Damaged
				if errors.Is(err, blob.ErrNone) {
					mark = Missing
				}
				if err := p.index.Mark(ctx, e.Digest, e.Place, mark); err != nil {
					return err
				}
				continue
			}
			if err != nil {
				return fmt.Errorf("move chunk %s: %w", e.Digest, err)
			}
			if err := p.put(ctx, e.Digest, data, &e.Place); err != nil {
				return err
			}
			out.Rewrote++
			if name == "" {
				legacy = append(legacy, e.Digest)
			}
		}
		if err := p.Flush(ctx); err != nil {
			return err
		}
		for _, d := range legacy {
			if err := p.blobs.Delete(ctx, LegacyName(d)); err != nil {
				return err
			}
		}
	}
}
