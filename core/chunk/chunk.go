package chunk

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/zeebo/blake3"
)

// MaxSize is the most bytes that one chunk holds.
const MaxSize = 4 << 20

// Digest is BLAKE3-256 of some bytes.
type Digest [32]byte

const prefix = "b3:"

// Sum is the digest of data.
func Sum(data []byte) Digest { return blake3.Sum256(data) }

// String writes "b3:" and 64 hexadecimal digits.
func (d Digest) String() string { return prefix + hex.EncodeToString(d[:]) }

// ParseDigest reads what String writes.
func ParseDigest(text string) (Digest, error) {
	var d Digest
	digits, ok := strings.CutPrefix(text, prefix)
	if !ok || len(digits) != 2*len(d) || strings.ToLower(digits) != digits {
		return d, fmt.Errorf("digest %.80q is not %q and 64 lower-case hexadecimal digits", text, prefix)
	}
	if _, err := hex.Decode(d[:], []byte(digits)); err != nil {
		return d, fmt.Errorf("digest %.80q: %w", text, err)
	}
	return d, nil
}

// Piece is one chunk of a file: its digest and its length in bytes. Pieces follow each other without gaps.
type Piece struct {
	Digest Digest
	Size   int64
}

// Cut reads r to its end and returns its pieces, its length and the digest of the whole. It cuts at every bound (a
// place in r; they rise) and between them every MaxSize bytes from the last bound on. One chunk is in memory at a time.
func Cut(r io.Reader, bounds []int64) (pieces []Piece, size int64, whole Digest, err error) {
	return CutEach(r, bounds, func(Piece, int64) error { return nil })
}

// CutEach is Cut, and calls each for every piece, with its place in r, as soon as it is known.
func CutEach(r io.Reader, bounds []int64,
	each func(p Piece, at int64) error) (pieces []Piece, size int64, whole Digest, err error) {
	buffer := make([]byte, MaxSize)
	hash := NewHash()
	for {
		for len(bounds) > 0 && bounds[0] <= size {
			bounds = bounds[1:]
		}
		room := int64(MaxSize)
		if len(bounds) > 0 {
			room = min(room, bounds[0]-size)
		}
		n, err := io.ReadFull(r, buffer[:room])
		if n > 0 {
			var both sync.WaitGroup // the two digests beside each other
			both.Go(func() { hash.Write(buffer[:n]) })
			pieces = append(pieces, Piece{Digest: Sum(buffer[:n]), Size: int64(n)})
			both.Wait()
			if err := each(pieces[len(pieces)-1], size); err != nil {
				return nil, 0, whole, err
			}
			size += int64(n)
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return pieces, size, hash.Digest(), nil
		}
		if err != nil {
			return nil, 0, whole, fmt.Errorf("read at byte %d: %w", size, err)
		}
	}
}

// Hash computes a digest piece by piece.
type Hash struct{ h *blake3.Hasher }

// NewHash starts a digest.
func NewHash() *Hash { return &Hash{blake3.New()} }

// Write adds data; it never fails.
func (h *Hash) Write(data []byte) (int, error) { return h.h.Write(data) }

// Digest is the digest of what has been written.
func (h *Hash) Digest() (d Digest) {
	copy(d[:], h.h.Sum(nil))
	return d
}

// Pack writes pieces as 36 bytes each: the digest and the length, big endian. Unpack reads them back.
func Pack(pieces []Piece) []byte {
	out := make([]byte, 0, 36*len(pieces))
	for _, p := range pieces {
		out = append(out, p.Digest[:]...)
		out = append(out, byte(p.Size>>24), byte(p.Size>>16), byte(p.Size>>8), byte(p.Size))
	}
	return out
}

// Unpack reads what Pack wrote.
func Unpack(packed []byte) ([]Piece, error) {
	if len(packed)%36 != 0 {
		return nil, fmt.Errorf("chunk list of %d bytes is not a multiple of 36", len(packed))
	}
	out := make([]Piece, len(packed)/36)
	for i := range out {
		entry := packed[36*i:]
		copy(out[i].Digest[:], entry)
		out[i].Size = int64(entry[32])<<24 | int64(entry[33])<<16 | int64(entry[34])<<8 | int64(entry[35])
	}
	return out, nil
}
