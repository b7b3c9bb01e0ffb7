package pack

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"kembrel/store/blob"
)

// worthMoving is how many dead bytes a pack must have before what lives of it is moved to give them back.
const worthMoving = 1 << 20

// FreeNow gives back at once what the index knows no more, where Clean waits: packs of which nothing is known go, and
// of the others those with much that is dead are moved and go. Packs that another process may be writing into are left
// to Clean. A disk without room lends half of what it keeps for the database meanwhile.
func (p *Packs) FreeNow(ctx context.Context, contents Contents) (Cleaned, error) {
	var out Cleaned
	if err := p.endOpen(ctx); err != nil {
		return out, fmt.Errorf("end the open pack: %w", err)
	}
	if lender, ok := blob.As[interface{ Lend(bool) }](p.blobs); ok {
		lender.Lend(true)
		defer lender.Lend(false)
	}
	packs, live, err := p.finished(ctx, contents)
	if err != nil {
		return out, err
	}
	dead := func(f found) int64 {
		l := live[f.name]
		return f.size - l.Stored - l.Chunks*int64(headLen)
	}
	slices.SortFunc(packs, func(a, b found) int { return cmp.Compare(dead(b), dead(a)) })
	for _, empty := range []bool{true, false} { // the empty ones first: they make room for moving
		for _, f := range packs {
			if (live[f.name].Chunks == 0) != empty || ctx.Err() != nil {
				continue
			}
			if !empty {
				if dead(f) < worthMoving {
					continue
				}
				if err := p.moveAll(ctx, contents, f.name, &out); err != nil {
					return out, err
				}
				now, err := contents.LivePacks(ctx)
				if err != nil {
					return out, err
				}
				if now[f.name].Chunks > 0 { // marked ones stay where they are
					continue
				}
			}
			if err := p.blobs.Delete(ctx, Name(f.name)); err != nil {
				return out, err
			}
			out.Packs++
			out.Freed += f.size
		}
	}
	return out, ctx.Err()
}

// Alone says that no other process writes here, so that a pack which this one does not write is finished.
func (p *Packs) Alone() { p.alone = true }

// endOpen makes what was put safe and ends the open pack, so that another is begun.
func (p *Packs) endOpen(ctx context.Context) error { return p.Close(ctx) }

// finished lists the packs that nobody writes into, and what lives of all.
func (p *Packs) finished(ctx context.Context, contents Contents) (packs []found, live map[string]Live, err error) {
	p.mutex.Lock()
	own := map[string]bool{}
	for name := range p.begun {
		own[name] = p.open == nil || name != p.name
	}
	for _, e := range p.pending { // not known to the index yet
		own[e.Pack] = false
	}
	p.mutex.Unlock()
	if err := p.blobs.List(ctx, Name(""), func(name string, size int64) error {
		f := found{strings.TrimPrefix(name, Name("")), size}
		if free, begun := own[f.name]; begun && free || !begun && (p.alone || f.isOld(p.old)) {
			packs = append(packs, f)
		}
		return nil
	}); err != nil {
		return nil, nil, err
	}
	live, err = contents.LivePacks(ctx)
	return packs, live, err
}

// Space is how the disk of the blobs stands; nil where it has no end.
func (p *Packs) Space() *blob.Full {
	l, ok := blob.As[*blob.Local](p.blobs)
	if !ok {
		return nil
	}
	f, err := l.Space()
	if err != nil {
		return nil
	}
	return &f
}
