package chunk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"sync"

	"github.com/klauspost/compress/huff0"
	"github.com/klauspost/compress/zstd"
)

// The forms in which a chunk is stored; the first byte says which. Private to the store: digests are of the raw bytes.
const (
	formRaw    = 0 // the bytes
	formZstd   = 1 // a zstd frame
	formPlanes = 2 // numbers of a width, byte plane by byte plane: docs/storage.md
)

// A plane goes in blocks, each with a byte of its mode and three of its length.
const (
	blockRaw  = 0
	blockHuff = 1 // huff0, four streams, with its table
	blockOne  = 2 // one byte, over and over
	blockSize = 128 << 10
)

// worthwhile is the share of its size beyond which compressing a chunk is not worth its time; rawPlane are the bits of
// a byte beyond which a plane is left as it is.
const (
	worthwhile = 0.97
	rawPlane   = 7.85
)

// ErrStored says that stored bytes are not what Compress writes.
var ErrStored = errors.New("damaged chunk")

// Compress packs a chunk, losslessly. What its bytes are is found by sampling: floats of 8, 4 or 2 bytes are rotated
// left by one, so that the exponent is a byte of its own (or nearly) and the sign joins the mantissa, and their byte
// planes go through Huffman's code where that pays; the rest through zstd; what neither makes smaller stays raw. out is
// appended to and returned.
func Compress(out, data []byte) []byte {
	out, rest := CompressParts(out, data)
	return append(out, rest...)
}

// CompressParts is Compress without a copy of what stays raw: it is returned beside, and belongs behind what was
// appended to out.
func CompressParts(out, data []byte) (packed, rest []byte) {
	switch form, width := choose(data); form {
	case formPlanes:
		if packed := appendPlanes(out, data, width); len(packed)-len(out) < len(data) {
			return packed, nil
		}
	case formZstd:
		if packed := encoder().EncodeAll(data, append(out, formZstd)); len(packed)-len(out) < len(data) {
			return packed, nil
		}
	}
	return append(out, formRaw), data
}

// encoder and decoder may be used by many goroutines at once.
var (
	encoder = sync.OnceValue(func() *zstd.Encoder {
		// valid options
		e, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false),
			zstd.WithWindowSize(MaxSize))
		return e
	})
	decoder = sync.OnceValue(func() *zstd.Decoder {
		d, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(2*MaxSize),
			zstd.WithDecoderMaxWindow(2*MaxSize))
		return d
	})
	huffs = sync.Pool{New: func() any { return new(huff0.Scratch) }}
)

// sampled is how many bytes are looked at to choose a form, in pieces spread over the chunk.
const (
	sampled      = 64 << 10
	samplePieces = 4
)

// choose samples a chunk: which form is likely to be smallest, and for planes the width of its numbers.
func choose(data []byte) (form byte, width int) {
	if len(data) < 64 {
		return formRaw, 0
	}
	piece := sampled / samplePieces
	sample := data
	if len(data) > sampled {
		sample = make([]byte, 0, sampled)
		for i := range samplePieces {
			from := (len(data) - piece) / (samplePieces - 1) * i &^ 7
			sample = append(sample, data[from:from+piece]...)
		}
	}
	best, share := byte(formRaw), worthwhile
	for _, w := range []int{4, 2, 8} {
		if len(data)%w != 0 {
			continue
		}
		if s := planeShare(sample, w); s < share-0.005 {
			best, width, share = formPlanes, w, s
		}
	}
	if packed := encoder().EncodeAll(sample, nil); float64(len(packed))/float64(len(sample)) < share-0.02 {
		return formZstd, 0
	}
	return best, width
}

// planeShare is to what share of its size a sample comes as byte planes, by their entropies.
func planeShare(sample []byte, width int) float64 {
	var counts [8][256]int
	n := len(sample) / width
	for i := range n {
		v := rotated(sample[i*width:], width)
		for p := range width {
			counts[p][byte(v>>(8*p))]++
		}
	}
	total := 0.0
	for p := range width {
		entropy := 0.0
		for _, c := range counts[p] {
			if c > 0 {
				entropy -= float64(c) * math.Log2(float64(c)/float64(n))
			}
		}
		if entropy /= float64(n); entropy > rawPlane {
			entropy = 8
		}
		total += entropy
	}
	return total / float64(8*width)
}

func rotated(b []byte, width int) uint64 {
	switch width {
	case 2:
		return uint64(bits.RotateLeft16(binary.LittleEndian.Uint16(b), 1))
	case 4:
		return uint64(bits.RotateLeft32(binary.LittleEndian.Uint32(b), 1))
	}
	return bits.RotateLeft64(binary.LittleEndian.Uint64(b), 1)
}

// appendPlanes writes the form, the width, and the planes, the lowest first.
func appendPlanes(out, data []byte, width int) []byte {
	out = append(out, formPlanes, byte(width))
	n := len(data) / width
	planes := buffer(len(data))
	defer release(planes)
	split(planes, data, width)
	s := huffs.Get().(*huff0.Scratch)
	defer huffs.Put(s)
	s.Reuse = huff0.ReusePolicyNone
	for p := range width {
		plane := planes[p*n : (p+1)*n]
		for from := 0; from < n; from += blockSize {
			out = appendBlock(out, plane[from:min(n, from+blockSize)], s)
		}
	}
	return out
}

// buffers hold the planes of one chunk.
var buffers = sync.Pool{New: func() any { b := make([]byte, MaxSize); return &b }}

func buffer(n int) []byte {
	if n > MaxSize {
		return make([]byte, n)
	}
	return (*buffers.Get().(*[]byte))[:n]
}

func release(b []byte) {
	if cap(b) == MaxSize {
		b = b[:MaxSize]
		buffers.Put(&b)
	}
}

func split(planes, data []byte, width int) {
	n := len(data) / width
	switch width {
	case 2:
		a, b := planes[:n], planes[n:2*n]
		for i := range a {
			v := bits.RotateLeft16(binary.LittleEndian.Uint16(data[2*i:]), 1)
			a[i], b[i] = byte(v), byte(v>>8)
		}
	case 4:
		a, b, c, d := planes[:n], planes[n:2*n], planes[2*n:3*n], planes[3*n:4*n]
		for i := range a {
			v := bits.RotateLeft32(binary.LittleEndian.Uint32(data[4*i:]), 1)
			a[i], b[i], c[i], d[i] = byte(v), byte(v>>8), byte(v>>16), byte(v>>24)
		}
	default:
		for i := range n {
			v := bits.RotateLeft64(binary.LittleEndian.Uint64(data[8*i:]), 1)
			for p := range 8 {
				planes[p*n+i] = byte(v >> (8 * p))
			}
		}
	}
}

func join(data, planes []byte, width int) {
	n := len(data) / width
	switch width {
	case 2:
		a, b := planes[:n], planes[n:2*n]
		for i := range a {
			binary.LittleEndian.PutUint16(data[2*i:], bits.RotateLeft16(uint16(a[i])|uint16(b[i])<<8, -1))
		}
	case 4:
		a, b, c, d := planes[:n], planes[n:2*n], planes[2*n:3*n], planes[3*n:4*n]
		for i := range a {
			v := uint32(a[i]) | uint32(b[i])<<8 | uint32(c[i])<<16 | uint32(d[i])<<24
			binary.LittleEndian.PutUint32(data[4*i:], bits.RotateLeft32(v, -1))
		}
	default:
		for i := range n {
			v := uint64(0)
			for p := range 8 {
				v |= uint64(planes[p*n+i]) << (8 * p)
			}
			binary.LittleEndian.PutUint64(data[8*i:], bits.RotateLeft64(v, -1))
		}
	}
}

func appendBlock(out, block []byte, s *huff0.Scratch) []byte {
	head := func(mode byte, n int) { out = append(out, mode, byte(n), byte(n>>8), byte(n>>16)) }
	if noisy(block) {
		head(blockRaw, len(block))
		return append(out, block...)
	}
	packed, _, err := huff0.Compress4X(block, s)
	switch {
	case err == nil && len(packed) < len(block):
		head(blockHuff, len(packed))
		return append(out, packed...)
	case errors.Is(err, huff0.ErrUseRLE):
		head(blockOne, 1)
		return append(out, block[0])
	}
	head(blockRaw, len(block))
	return append(out, block...)
}

// noisy reports whether a block's bytes are so evenly spread that a code does not pay.
func noisy(block []byte) bool {
	var counts [256]int
	step := max(1, len(block)/4096)
	n := 0
	for i := 0; i < len(block); i += step {
		counts[block[i]]++
		n++
	}
	entropy := 0.0
	for _, c := range counts {
		if c > 0 {
			entropy -= float64(c) * math.Log2(float64(c)/float64(n))
		}
	}
	// A sample of n bytes has less entropy than what it is drawn from, by about 255/(2 n ln 2) bits (Miller 1955).
	return entropy/float64(n)+255/(2*float64(n)*math.Ln2) > rawPlane
}

// Decompress gives back the size bytes that Compress packed. Memory is bounded by size, which is at most MaxSize. The
// error wraps ErrStored.
func Decompress(stored []byte, size int) ([]byte, error) {
	if size < 1 || size > MaxSize || len(stored) < 1 {
		return nil, fmt.Errorf("%w: %d bytes for %d", ErrStored, len(stored), size)
	}
	body := stored[1:]
	switch stored[0] {
	case formRaw:
		if len(body) == size {
			return body, nil
		}
	case formZstd:
		out, err := decoder().DecodeAll(body, make([]byte, 0, size))
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrStored, err)
		}
		if len(out) == size {
			return out, nil
		}
	case formPlanes:
		return readPlanes(body, size)
	}
	return nil, fmt.Errorf("%w: form %d of %d bytes is not %d bytes", ErrStored, stored[0], len(stored), size)
}

func readPlanes(body []byte, size int) ([]byte, error) {
	if len(body) < 1 {
		return nil, ErrStored
	}
	width := int(body[0])
	if width != 2 && width != 4 && width != 8 || size%width != 0 {
		return nil, fmt.Errorf("%w: numbers of %d bytes", ErrStored, width)
	}
	body = body[1:]
	planes := buffer(size)
	defer release(planes)
	s := huffs.Get().(*huff0.Scratch)
	defer huffs.Put(s)
	n := size / width
	for p := range width {
		plane := planes[p*n : (p+1)*n]
		for from := 0; from < n; from += blockSize {
			var err error
			if body, err = readBlock(plane[from:min(n, from+blockSize)], body, s); err != nil {
				return nil, err
			}
		}
	}
	if len(body) != 0 {
		return nil, fmt.Errorf("%w: %d bytes too many", ErrStored, len(body))
	}
	out := make([]byte, size)
	join(out, planes, width)
	return out, nil
}

// readBlock fills a block and returns what follows it.
func readBlock(block, body []byte, s *huff0.Scratch) ([]byte, error) {
	if len(body) < 4 {
		return nil, fmt.Errorf("%w: cut off", ErrStored)
	}
	mode, n := body[0], int(body[1])|int(body[2])<<8|int(body[3])<<16
	if body = body[4:]; n > len(body) {
		return nil, fmt.Errorf("%w: cut off", ErrStored)
	}
	data, rest := body[:n], body[n:]
	switch {
	case mode == blockRaw && n == len(block):
		copy(block, data)
		return rest, nil
	case mode == blockOne && n == 1:
		for i := range block {
			block[i] = data[0]
		}
		return rest, nil
	case mode == blockHuff:
		s, packed, err := huff0.ReadTable(data, s)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrStored, err)
		}
		out, err := s.Decoder().Decompress4X(block[:0:len(block)], packed)
		if err != nil || len(out) != len(block) {
			return nil, fmt.Errorf("%w: a block of %d bytes gave %d: %v", ErrStored, len(block), len(out), err)
		}
		return rest, nil
	}
	return nil, fmt.Errorf("%w: block of mode %d", ErrStored, mode)
}
