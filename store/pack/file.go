package pack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"sync"

	"kembrel/core/chunk"
)

// Unreadable says which chunk of a file cannot be read; it wraps ErrMissing, ErrDamaged or ErrNone.
type Unreadable struct {
	File   string
	Digest chunk.Digest
	Err    error
}

func (e *Unreadable) Error() string {
	return fmt.Sprintf("chunk %s of %s: %v", e.Digest, e.File, e.Err)
}

// Unwrap is why.
func (e *Unreadable) Unwrap() error { return e.Err }

// Reader reads a file from its chunks, each checked before a byte of it is given out. The chunk around the last place
// read stays in memory. ReadAt may be called from many goroutines, beside each other; Read and Seek may not.
type Reader struct {
	ctx    context.Context
	chunks *Packs
	name   string
	pieces []chunk.Piece
	starts []int64 // where each piece begins, and the size behind the last
	at     int64

	mutex  sync.Mutex
	places map[chunk.Digest]Place
	loaded []byte
	piece  int // which is loaded
}

// NewReader reads a file of these pieces under ctx; name is said in errors.
func (p *Packs) NewReader(ctx context.Context, name string, pieces []chunk.Piece) *Reader {
	r := &Reader{ctx: ctx, chunks: p, name: name, pieces: pieces, piece: -1}
	at := int64(0)
	for _, piece := range pieces {
		r.starts = append(r.starts, at)
		at += piece.Size
	}
	r.starts = append(r.starts, at)
	return r
}

// Size is the length in bytes.
func (r *Reader) Size() int64 { return r.starts[len(r.pieces)] }

// Seek implements io.Seeker.
func (r *Reader) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += r.at
	case io.SeekEnd:
		offset += r.Size()
	}
	if offset < 0 {
		return 0, fmt.Errorf("seek before the start")
	}
	r.at = offset
	return offset, nil
}

// Read implements io.Reader.
func (r *Reader) Read(p []byte) (int, error) {
	n, err := r.some(p, r.at)
	r.at += int64(n)
	return n, err
}

// ReadAt implements io.ReaderAt.
func (r *Reader) ReadAt(p []byte, at int64) (n int, err error) {
	for n < len(p) && err == nil {
		var k int
		k, err = r.some(p[n:], at+int64(n))
		n += k
	}
	if n == len(p) {
		err = nil
	}
	return n, err
}

// Prime reads the chunk around a place, so that what cannot be read is found out before the first byte goes out.
func (r *Reader) Prime(at int64) error {
	if r.Size() == 0 {
		return nil
	}
	_, err := r.some(make([]byte, 1), min(max(0, at), r.Size()-1))
	return err
}

// some copies bytes of one chunk.
func (r *Reader) some(p []byte, at int64) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	if at >= r.Size() {
		return 0, io.EOF
	}
	i := sort.Search(len(r.pieces), func(i int) bool { return r.starts[i+1] > at })
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.piece != i {
		if err := r.load(i); err != nil {
			return 0, err
		}
	}
	return copy(p, r.loaded[at-r.starts[i]:]), nil
}

func (r *Reader) load(i int) error {
	if r.places == nil { // all at once; one that was moved since is looked up by Read
		digests := make([]chunk.Digest, len(r.pieces))
		for i, p := range r.pieces {
			digests[i] = p.Digest
		}
		places, err := r.chunks.Places(r.ctx, digests)
		if err != nil {
			return err
		}
		r.places = places
	}
	d := r.pieces[i].Digest
	data, err := r.chunks.Read(r.ctx, d, r.places[d])
	if errors.Is(err, ErrMissing) || errors.Is(err, ErrDamaged) || errors.Is(err, ErrNone) {
		return &Unreadable{r.name, d, err}
	} else if err != nil {
		return err
	}
	if int64(len(data)) != r.pieces[i].Size {
		return &Unreadable{r.name, d, ErrDamaged}
	}
	r.loaded, r.piece = data, i
	return nil
}

// Keep cuts what r yields into chunks and puts them; Flush makes them safe, and a commit has them held. One chunk is in
// memory at a time.
func (p *Packs) Keep(ctx context.Context, r io.Reader) (pieces []chunk.Piece, whole chunk.Digest, err error) {
	buffer := make([]byte, chunk.MaxSize)
	hash := chunk.NewHash()
	for {
		n, err := io.ReadFull(r, buffer)
		if n > 0 {
			d := chunk.Sum(buffer[:n])
			hash.Write(buffer[:n])
			if err := p.Put(ctx, d, buffer[:n]); err != nil {
				return nil, whole, err
			}
			pieces = append(pieces, chunk.Piece{Digest: d, Size: int64(n)})
		}
		switch err {
		case nil:
		case io.EOF, io.ErrUnexpectedEOF:
			return pieces, hash.Digest(), nil
		default:
			return nil, whole, err
		}
	}
}
