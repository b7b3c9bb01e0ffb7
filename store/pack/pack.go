// Package pack keeps chunks: many in a file (a pack), each packed by core/chunk, in a blob store. Where a chunk lies is
// in an index, which the database holds. docs/storage.md has the format.
//
//	packs.Put(ctx, digest, data)      received and verified; a crash may lose it until
//	packs.Flush(ctx)                  returns, when all that was put before is safe, and known to every replica
//	packs.Get(ctx, digest)            checked against the digest
//
// It imports core/chunk and store/blob.
package pack

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"kembrel/core/chunk"
	"kembrel/store/blob"
)

// Place is where a chunk lies: its bytes as stored begin at At of a pack. A pack "" is a chunk of the earlier form, a
// blob of its own.
type Place struct {
	Pack   string
	At     int64
	Stored int // bytes
	Size   int // of the chunk itself
	Bad    Mark
}

// Mark is what was wrong with a chunk when it was last looked at. Reading it is tried all the same, and a reading that
// is right takes the mark away. Sending the same content again does so too.
type Mark string

// The marks.
const (
	Sound   Mark = ""
	Missing Mark = "missing" // not where it was kept; the store may be away, or its folder moved
	Damaged Mark = "damaged" // other bytes
)

// Entry is a chunk with its place. One that was moved comes from the pack From, and is to be known here only if it is
// still known there.
type Entry struct {
	Digest chunk.Digest
	Place
	Moved bool
	From  string
}

// Index knows where chunks lie. AddPlaces makes places known for good; a chunk that is known and without a mark keeps
// its place. Mark notes what was found of a chunk at a place; where it lies elsewhere by now that is nothing to it.
type Index interface {
	Places(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]Place, error)
	AddPlaces(ctx context.Context, entries []Entry) error
	Mark(ctx context.Context, digest chunk.Digest, place Place, mark Mark) error
}

// ErrNone says that a chunk is not known here, ErrMissing that it is not where it was kept, ErrDamaged that its bytes
// are not those it is named by.
var (
	ErrNone    = errors.New("no such chunk")
	ErrMissing = errors.New("chunk is not where it was kept")
	ErrDamaged = errors.New("damaged chunk")
)

// The size at which a pack is full, and how much may wait to be made safe before that is begun beside what comes in.
const (
	fullPack = 128 << 20
	waiting  = 32 << 20

	mostWaiting = 8 * waiting
	openTime    = 15 * time.Minute // and how long a pack is written at most
)

// Packs keeps chunks. All methods may be called from many goroutines.
type Packs struct {
	blobs blob.Store
	index Index

	writing sync.RWMutex // held for reading while a chunk is written, for writing while a flush takes what was written
	mutex   sync.Mutex
	sizes   map[string]sized // of packs in a bucket
	begun   map[string]bool  // packs begun here
	alone   bool             // no other process writes
	open    blob.Appending   // nil: none
	name    string
	at      int64
	began   time.Time
	pending map[chunk.Digest]Entry
	unsafe  int64 // bytes pending
	old     time.Duration

	flushing sync.Mutex
}

// New keeps chunks in a blob store.
func New(blobs blob.Store, index Index) *Packs {
	return &Packs{blobs: blobs, index: index, pending: map[chunk.Digest]Entry{}, old: oldPack}
}

// Name is the blob of a pack.
func Name(pack string) string { return "pack/" + pack }

// LegacyName is the blob of a chunk of the earlier form, raw and alone.
func LegacyName(d chunk.Digest) string {
	digits := fmt.Sprintf("%x", d[:])
	return "chunk/" + digits[:2] + "/" + digits[2:]
}

// Before each chunk a pack has its digest, its length and its length as stored, so that an index can be made anew from
// packs.
const (
	magic   = "KC1\n"
	headLen = len(magic) + 32 + 4 + 4
)

// Put keeps a chunk, whose digest the caller has checked, until the next Flush makes it safe. One that is here is not
// written again.
func (p *Packs) Put(ctx context.Context, d chunk.Digest, data []byte) error {
	known, err := p.Places(ctx, []chunk.Digest{d})
	if place, ok := known[d]; err != nil || ok && place.Bad == Sound {
		return err
	}
	return p.put(ctx, d, data, nil)
}

// buffers hold chunks as they are written.
var buffers = sync.Pool{New: func() any { b := make([]byte, headLen, headLen+chunk.MaxSize+1); return &b }}

// put writes a chunk, or moves one that lies elsewhere.
func (p *Packs) put(ctx context.Context, d chunk.Digest, data []byte, from *Place) error {
	room := buffers.Get().(*[]byte)
	defer buffers.Put(room)
	buffer, rest := chunk.CompressParts((*room)[:headLen], data)
	head := append(append(buffer[:0], magic...), d[:]...)
	head = binary.BigEndian.AppendUint32(head, uint32(len(data)))
	binary.BigEndian.AppendUint32(head, uint32(len(buffer)+len(rest)-headLen))

	e := Entry{Digest: d, Place: Place{Stored: len(buffer) + len(rest) - headLen, Size: len(data)}}
	if from != nil {
		e.Moved, e.From = true, from.Pack
	}
	p.writing.RLock()
	err := p.write(e, buffer, rest)
	p.writing.RUnlock()
	if err != nil {
		return err
	}
	p.mutex.Lock()
	much, most := p.unsafe > waiting, p.unsafe > mostWaiting
	p.mutex.Unlock()
	if most { // the store is slower than what comes in: that waits for it
		return p.Flush(ctx)
	}
	if much && p.flushing.TryLock() { // beside the next chunks that come in
		go func() {
			defer p.flushing.Unlock()
			p.flush(context.WithoutCancel(ctx)) // a failure shows at the commit, which flushes again
		}()
	}
	return nil
}

// write appends a chunk, in one piece or two, to the open pack. Only the place is taken under the lock.
func (p *Packs) write(e Entry, bytes, rest []byte) error {
	size := int64(len(bytes) + len(rest))
	if err := p.blobs.Room(size); err != nil {
		return err
	}
	p.mutex.Lock()
	if p.open == nil {
		id, err := uuid.NewV7() // its time tells how old the pack is
		if err != nil {
			p.mutex.Unlock()
			return err
		}
		name := id.String()
		open, err := p.blobs.Append(Name(name))
		if err != nil {
			p.mutex.Unlock()
			return fmt.Errorf("begin a pack: %w", err)
		}
		p.open, p.name, p.at, p.began = open, name, 0, time.Now()
		p.own(name)
	}
	open, from := p.open, p.at
	e.Pack, e.At = p.name, from+int64(headLen)
	p.at += size
	p.mutex.Unlock()
	_, err := open.WriteAt(bytes, from)
	if err == nil && len(rest) > 0 {
		_, err = open.WriteAt(rest, from+int64(len(bytes)))
	}
	if err != nil {
		p.mutex.Lock()
		if p.open == open { // no more into this one: the disk may be full
			p.at = fullPack
		}
		p.mutex.Unlock()
		return fmt.Errorf("write into a pack: %w", err)
	}
	p.mutex.Lock()
	p.pending[e.Digest] = e
	p.unsafe += size
	p.mutex.Unlock()
	return nil
}

// mostOwn bounds how many packs are remembered as begun here.
const mostOwn = 10_000

// own remembers that a pack was begun here: nobody else writes into it. The mutex is held.
func (p *Packs) own(name string) {
	if p.begun == nil || len(p.begun) > mostOwn {
		p.begun = map[string]bool{}
	}
	p.begun[name] = true
}

// Flush makes all chunks safe that were put before it, and known. It is not cut off with the caller, as what it makes
// safe is others' too. What cannot be made safe is no longer known, whoever put it, and is to be put again.
func (p *Packs) Flush(ctx context.Context) error {
	p.flushing.Lock()
	defer p.flushing.Unlock()
	return p.flush(context.WithoutCancel(ctx))
}

func (p *Packs) flush(ctx context.Context) error {
	p.writing.Lock() // all writes that were begun are done
	p.mutex.Lock()
	open, full := p.open, p.at >= fullPack || time.Since(p.began) > openTime || !p.blobs.Grows() && p.at > 0
	entries := slices.Collect(maps.Values(p.pending))
	if full {
		p.open = nil
	}
	p.mutex.Unlock()
	p.writing.Unlock()
	var err error
	if len(entries) > 0 {
		if open != nil { // else they are of a pack that is full and safe, and the index could not be told
			if err = open.Sync(ctx); err == nil {
				err = p.whole(ctx, entries)
			}
		}
		if err == nil {
			err = p.index.AddPlaces(ctx, entries)
		} else { // what is not safe now may never be: it is to be sent again
			full = true
			err = fmt.Errorf("make a pack safe: %w", err)
			p.mutex.Lock()
			if p.open == open {
				p.open = nil
			}
			p.mutex.Unlock()
			p.forget(entries)
		}
	}
	if full && open != nil {
		err = errors.Join(err, open.Close())
	}
	if err == nil {
		p.forget(entries)
	}
	return err
}

// whole looks whether the packs of entries are as long as they are to be: somebody may have deleted one that was being
// written.
func (p *Packs) whole(ctx context.Context, entries []Entry) error {
	ends := map[string]int64{}
	for _, e := range entries {
		ends[e.Pack] = max(ends[e.Pack], e.At+int64(e.Stored))
	}
	for name, end := range ends {
		if !p.blobs.Grows() { // an object is there whole once its sending has returned, its size checked
			p.noteSize(Name(name), end)
			continue
		}
		if size, err := p.blobs.Size(ctx, Name(name)); err != nil {
			return err
		} else if size < end {
			return fmt.Errorf("pack %s has %d bytes, not %d", name, size, end)
		}
	}
	return nil
}

// abandon ends the open pack if it is the one named, which is gone, with what waits in it.
func (p *Packs) abandon(name string) {
	var lost []Entry
	p.mutex.Lock()
	if p.open != nil && p.name == name {
		p.open = nil // the file is closed when nobody writes into it any more
		for _, e := range p.pending {
			if e.Pack == name {
				lost = append(lost, e)
			}
		}
	}
	p.mutex.Unlock()
	p.forget(lost)
}

func (p *Packs) forget(entries []Entry) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	for _, e := range entries {
		if p.pending[e.Digest] == e {
			delete(p.pending, e.Digest)
			p.unsafe -= int64(e.Stored + headLen)
		}
	}
}

// Places tells which chunks are here, and where.
func (p *Packs) Places(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]Place, error) {
	out, err := p.index.Places(ctx, digests)
	if err != nil {
		return nil, err
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	for _, d := range digests {
		if e, ok := p.pending[d]; ok && !e.Moved {
			out[d] = e.Place
		}
	}
	return out, nil
}

// waits reports whether a chunk is not safe yet.
func (p *Packs) waits(d chunk.Digest) bool {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	_, ok := p.pending[d]
	return ok
}

// Close makes what was put safe and ends the open pack.
func (p *Packs) Close(ctx context.Context) error {
	p.flushing.Lock()
	defer p.flushing.Unlock()
	p.mutex.Lock()
	p.at = max(p.at, fullPack)
	p.mutex.Unlock()
	return p.flush(ctx)
}
