package pack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"kembrel/core/chunk"
	"kembrel/store/blob"
)

// Lost tells which chunks cannot be where they are said to be, because their pack is gone or too short. Their bytes are
// not looked at.
func (p *Packs) Lost(ctx context.Context, places map[chunk.Digest]Place) (map[chunk.Digest]bool, error) {
	out, sizes := map[chunk.Digest]bool{}, map[string]int64{}
	for d, place := range places {
		if p.waits(d) {
			continue
		}
		name, end := Name(place.Pack), place.At+int64(place.Stored)
		if place.Pack == "" {
			name, end = LegacyName(d), int64(place.Size)
		}
		size, known := sizes[name]
		if !known {
			var err error
			if size, err = p.size(ctx, name); err != nil {
				return nil, err
			}
			sizes[name] = size
		}
		if size < end {
			p.abandon(place.Pack)
			out[d] = true
			mark := Damaged // cut short
			if size == none {
				mark = Missing
			}
			if err := p.index.Mark(ctx, d, place, mark); err != nil {
				return nil, err
			}
		} else if place.Bad != Sound {
			out[d] = true
		}
	}
	return out, nil
}

// none is the size of a blob that is not there.
const none = -1

// sizesKept is how long the size of a pack in a bucket is taken as known: asking costs a request.
const sizesKept = time.Minute

type sized struct {
	size int64
	at   time.Time
}

// size is how long a pack is; none where it is not there.
func (p *Packs) size(ctx context.Context, name string) (int64, error) {
	if p.blobs.Grows() { // on disk asking costs nothing
		size, err := p.blobs.Size(ctx, name)
		if errors.Is(err, blob.ErrNone) {
			return none, nil
		}
		return size, err
	}
	p.mutex.Lock()
	known, ok := p.sizes[name]
	p.mutex.Unlock()
	if ok && time.Since(known.at) < sizesKept {
		return known.size, nil
	}
	size, err := p.blobs.Size(ctx, name)
	switch {
	case errors.Is(err, blob.ErrNone):
		return none, nil
	case err == nil:
		p.noteSize(name, size)
	}
	return size, err
}

// noteSize remembers how long a pack is.
func (p *Packs) noteSize(name string, size int64) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.sizes == nil || len(p.sizes) > 10_000 {
		p.sizes = map[string]sized{}
	}
	p.sizes[name] = sized{size, time.Now()}
}

// Get reads a chunk and checks it against its digest. One that is not there or damaged is marked, so that the next
// upload of the same content heals it; so does a later reading that is right.
func (p *Packs) Get(ctx context.Context, d chunk.Digest) ([]byte, error) {
	for try := 0; ; try++ {
		places, err := p.Places(ctx, []chunk.Digest{d})
		if err != nil {
			return nil, err
		}
		place, ok := places[d]
		if !ok {
			return nil, fmt.Errorf("%w: %s", ErrNone, d)
		}
		data, err := p.read(ctx, d, place)
		switch {
		case err == nil && place.Bad != Sound:
			return data, p.index.Mark(ctx, d, place, Sound)
		case err == nil:
			return data, nil
		// it was moved meanwhile, or is only sent with a flush, or was read badly
		case try == 0 && (errors.Is(err, ErrDamaged) || errors.Is(err, blob.ErrNone)):
			if p.waits(d) {
				if err := p.Flush(ctx); err != nil {
					return nil, err
				}
			}
			continue
		case errors.Is(err, blob.ErrNone):
			return nil, errors.Join(fmt.Errorf("%w: %s: %w", ErrMissing, d, err), p.index.Mark(ctx, d, place, Missing))
		case errors.Is(err, ErrDamaged):
			return nil, errors.Join(fmt.Errorf("%w %s: %w", ErrDamaged, d, err), p.index.Mark(ctx, d, place, Damaged))
		}
		return nil, err
	}
}

// Read reads a chunk whose place is known.
func (p *Packs) Read(ctx context.Context, d chunk.Digest, place Place) ([]byte, error) {
	data, err := p.read(ctx, d, place)
	if err != nil || place.Bad != Sound {
		return p.Get(ctx, d)
	}
	return data, nil
}

// Limits of one reading of Check: how much it reads at once, and how far chunks may lie from each other in it.
const (
	checkStretch = 16 << 20
	checkGap     = 256 << 10
)

// Check reads chunks, those that lie beside each other in a pack together, and tells of each whether it is what it is
// named by. It takes the order of packs and places. Marks are set and taken away as Get does.
func (p *Packs) Check(ctx context.Context, entries []Entry, each func(e Entry, why error) error) error {
	for len(entries) > 0 {
		n, from := 1, entries[0].At
		upto := from + int64(entries[0].Stored)
		for entries[0].Pack != "" && n < len(entries) {
			e := entries[n]
			end := e.At + int64(e.Stored)
			if e.Pack != entries[0].Pack || e.At < upto || e.At-upto > checkGap || end-from > checkStretch {
				break
			}
			n, upto = n+1, end
		}
		var data []byte
		if n > 1 {
			if r, err := p.blobs.Get(ctx, Name(entries[0].Pack), from, upto-from); err == nil {
				data, _ = io.ReadAll(io.LimitReader(r, upto-from))
				r.Close()
			}
		}
		for _, e := range entries[:n] {
			at := e.At - from
			if end := at + int64(e.Stored); e.Bad == Sound && int64(len(data)) >= end && isChunk(e, data[at:end]) {
				if err := each(e, nil); err != nil {
					return err
				}
				continue
			}
			_, why := p.Get(ctx, e.Digest) // it may have been moved; what is wrong is marked
			if err := each(e, why); err != nil {
				return err
			}
		}
		entries = entries[n:]
	}
	return nil
}

// isChunk reports whether stored bytes are the chunk.
func isChunk(e Entry, stored []byte) bool {
	data, err := chunk.Decompress(stored, e.Size)
	return err == nil && chunk.Sum(data) == e.Digest
}

func (p *Packs) read(ctx context.Context, d chunk.Digest, place Place) ([]byte, error) {
	name, stored := Name(place.Pack), place.Stored
	if place.Pack == "" {
		name, stored = LegacyName(d), place.Size
	}
	r, err := p.blobs.Get(ctx, name, place.At, int64(stored))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data := make([]byte, stored)
	if _, err := io.ReadFull(r, data); err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, fmt.Errorf("%w: cut short", ErrDamaged)
		}
		return nil, err
	}
	if place.Pack != "" {
		if data, err = chunk.Decompress(data, place.Size); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
	}
	if chunk.Sum(data) != d {
		return nil, fmt.Errorf("%w: other bytes", ErrDamaged)
	}
	return data, nil
}
