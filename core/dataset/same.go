package dataset

import (
	"encoding/binary"
	"math/bits"

	"kembrel/core/chunk"
)

// Fingerprint is of a set of items, whatever their order: the sum, modulo 2 to the 256th, of the digests of its members
// (Bellare and Micciancio 1997, "AdHash"). It tells which data a program used. It is no seal against somebody who makes
// items for the purpose of having the same: a snapshot's own digest, which is of its items in order, is.
type Fingerprint struct {
	sum   [4]uint64 // lowest first
	count uint64
}

// Add adds a member.
func (f *Fingerprint) Add(member []byte) {
	d := chunk.Sum(member)
	var carry uint64
	for i := range f.sum {
		f.sum[i], carry = bits.Add64(f.sum[i], binary.LittleEndian.Uint64(d[8*i:]), carry)
	}
	f.count++
}

// Count is how many members were added.
func (f *Fingerprint) Count() int64 { return int64(f.count) }

// Digest is the fingerprint as a digest, of the sum and the count.
func (f *Fingerprint) Digest() chunk.Digest {
	var b [40]byte
	for i, v := range f.sum {
		binary.LittleEndian.PutUint64(b[8*i:], v)
	}
	binary.LittleEndian.PutUint64(b[32:], f.count)
	return chunk.Sum(b[:])
}

// Prints are the fingerprints of a split's items: by keys alone, by pairs of keys and digests, and by digests alone.
type Prints struct{ Keys, Pairs, Digests Fingerprint }

// Add adds an item that has a key, a digest, or both; what it lacks is not counted.
func (p *Prints) Add(key string, digest chunk.Digest) {
	known := digest != chunk.Digest{}
	if key != "" {
		p.Keys.Add([]byte(key))
	}
	if known {
		p.Digests.Add(digest[:])
	}
	if key != "" && known {
		p.Pairs.Add(append([]byte(key), digest[:]...))
	}
}
