package curve

import (
	"encoding/binary"
	"math/bits"
	"sync"

	"github.com/klauspost/compress/huff0"
)

// Words (integers, or the bits of floats) are packed as byte planes: all lowest bytes, then all second bytes, and so
// on. Each plane is stored in the smallest of these forms:
//
//	stored   the bytes
//	same     one byte that all are
//	huffman  uvarint length, then one huff0 block (the entropy stage of RFC 8878, table included)
const (
	planeStored = iota
	planeSame
	planeHuffman
)

var scratch = sync.Pool{New: func() any { return &huff0.Scratch{} }}

// appendPlanes packs the lowest width bytes of each word. At most MaxBlock words.
func appendPlanes(dst []byte, words []uint64, width int) []byte {
	var buffer [MaxBlock]byte
	plane := buffer[:len(words)]
	for k := range width {
		for i, w := range words {
			plane[i] = byte(w >> (8 * k))
		}
		dst = appendPlane(dst, plane)
	}
	return dst
}

func appendPlane(dst, plane []byte) []byte {
	same := true
	for _, b := range plane {
		same = same && b == plane[0]
	}
	switch {
	case len(plane) == 0:
		return dst
	case same:
		return append(dst, planeSame, plane[0])
	}
	if len(plane) >= 32 {
		s := scratch.Get().(*huff0.Scratch)
		defer scratch.Put(s)
		s.Reuse = huff0.ReusePolicyNone
		if out, _, err := huff0.Compress1X(plane, s); err == nil && len(out)+2 < len(plane) {
			dst = binary.AppendUvarint(append(dst, planeHuffman), uint64(len(out)))
			return append(dst, out...)
		}
	}
	return append(append(dst, planeStored), plane...)
}

// planes reads what appendPlanes wrote.
func (d *decoder) planes(words []uint64, width int) {
	var buffer [MaxBlock]byte
	for k := range width {
		if len(words) == 0 || d.err != nil {
			return
		}
		plane := d.plane(buffer[:len(words)])
		for i, b := range plane {
			words[i] |= uint64(b) << (8 * k)
		}
	}
}

func (d *decoder) plane(into []byte) []byte {
	switch d.byte() {
	case planeStored:
		return d.take(len(into))
	case planeSame:
		b := d.byte()
		for i := range into {
			into[i] = b
		}
		return into
	case planeHuffman:
		packed := d.take(d.count(1))
		s := scratch.Get().(*huff0.Scratch)
		defer scratch.Put(s)
		s, rest, err := huff0.ReadTable(packed, s)
		if err != nil {
			d.fail("bad Huffman table")
			return nil
		}
		out, err := s.Decoder().Decompress1X(into[:0:len(into)], rest)
		if err != nil || len(out) != len(into) {
			d.fail("bad Huffman plane")
			return nil
		}
		return out
	}
	d.fail("unknown form of a plane")
	return nil
}

// take returns the next n bytes, unchanged and not copied.
func (d *decoder) take(n int) []byte {
	if n > len(d.rest) {
		d.fail("too short")
		return nil
	}
	out := d.rest[:n]
	d.rest = d.rest[n:]
	return out
}

func zigzag(v int64) uint64   { return uint64(v<<1) ^ uint64(v>>63) }
func unzigzag(w uint64) int64 { return int64(w>>1) ^ -int64(w&1) }

func widthOf(words []uint64) int {
	var all uint64
	for _, w := range words {
		all |= w
	}
	return (bits.Len64(all) + 7) / 8
}

// appendInts packs integers as their first or second differences, whichever need fewer bytes; the first one or two
// stand alone.
//
//	byte    order << 4 | width
//	varint  the first values, one per order
//	planes  zigzag of the differences of that order
func appendInts(dst []byte, values []int64) []byte {
	words, best, width := []uint64(nil), 0, 9
	for order := 1; order <= 2; order++ {
		w := differences(values, order)
		if n := widthOf(w); n < width || (n == width && sumBits(w) < sumBits(words)) {
			words, best, width = w, order, n
		}
	}
	dst = append(dst, byte(best<<4|width))
	for i := range min(best, len(values)) {
		dst = binary.AppendVarint(dst, values[i])
	}
	return appendPlanes(dst, words, width)
}

func sumBits(words []uint64) (n int) {
	for _, w := range words {
		n += bits.Len64(w)
	}
	return n
}

func differences(values []int64, order int) []uint64 {
	if len(values) <= order {
		return nil
	}
	out := make([]uint64, len(values)-order)
	for i := range out {
		d := values[i+order] - values[i+order-1]
		if order == 2 {
			d -= values[i+1] - values[i]
		}
		out[i] = zigzag(d)
	}
	return out
}

func (d *decoder) ints(n int) []int64 {
	head := d.byte()
	order, width := int(head>>4), int(head&15)
	if order < 1 || order > 2 || width > 8 {
		d.fail("unknown form of integers")
		return nil
	}
	out := make([]int64, n)
	for i := range min(order, n) {
		out[i] = d.varint()
	}
	if n <= order {
		return out
	}
	words := make([]uint64, n-order)
	d.planes(words, width)
	if order == 1 {
		for i, w := range words {
			out[i+1] = out[i] + unzigzag(w)
		}
		return out
	}
	last := out[1] - out[0]
	for i, w := range words {
		last += unzigzag(w)
		out[i+2] = out[i+1] + last
	}
	return out
}
