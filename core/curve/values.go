package curve

import (
	"encoding/binary"
	"math"
	"math/bits"
)

// Values of a block are packed by the codec that makes them smallest; every bit is kept, NaN payloads and -0 included.
//
//	byte     codec, | 0x80 where the values are float32
//	codec dictionary:  uvarint k; k values of 4 or 8 bytes; planes (1) of the indices
//	codec bits:        planes (4 or 8) of the bits, rotated left by one so that the exponent is one plane
//	codec xor:         planes of each value's bits XOR the bits before
//	codec differences: planes of the zigzag difference of the bits, as an order-preserving integer, to the one before
//	codec bend:        the same, second differences
//	codec decimal:     byte e, then integers m (appendInts) with value = m / 10^e exactly
const (
	codecDictionary = iota
	codecBits
	codecXOR
	codecDifferences
	codecBend
	codecDecimal
	singles = 0x80
)

const maxDictionary = 256

// appendValues packs at most MaxBlock values. O(n).
func appendValues(dst []byte, values []float64) []byte {
	if len(values) == 0 {
		return dst
	}
	start := len(dst)
	dst = appendFloats(dst, values)
	try := func(packed []byte) {
		if packed != nil && len(packed) < len(dst)-start {
			dst = append(dst[:start], packed...)
		}
	}
	if len(dst)-start > 8 {
		try(asDictionary(values))
	}
	if len(dst)-start > len(values) {
		try(asDecimal(values))
	}
	return dst
}

// appendFloats packs by the transform of the bits whose planes have the least entropy.
func appendFloats(dst []byte, values []float64) []byte {
	width, head := 8, byte(0)
	if allSingle(values) {
		width, head = 4, singles
	}
	raw := make([]uint64, len(values))
	for i, v := range values {
		raw[i] = toBits(v, width)
	}
	best, words, least := byte(codecBits), []uint64(nil), math.Inf(1)
	for codec := byte(codecBits); codec <= codecBend; codec++ {
		w := transform(raw, codec, width)
		if cost := planeCost(w, width); cost < least {
			best, words, least = codec, w, cost
		}
	}
	return appendPlanes(append(dst, best|head), words, width)
}

func allSingle(values []float64) bool {
	for _, v := range values {
		if math.Float64bits(float64(float32(v))) != math.Float64bits(v) {
			return false
		}
	}
	return true
}

func toBits(v float64, width int) uint64 {
	if width == 4 {
		return uint64(math.Float32bits(float32(v)))
	}
	return math.Float64bits(v)
}

func fromBits(w uint64, width int) float64 {
	if width == 4 {
		return float64(math.Float32frombits(uint32(w)))
	}
	return math.Float64frombits(w)
}

// ordered maps the bits of floats to integers in the order of the floats, within width bytes, and back.
func ordered(w uint64, width int) uint64 {
	if top := uint64(1) << (8*width - 1); w&top != 0 {
		return ^w & (top<<1 - 1)
	} else {
		return w | top
	}
}

func unordered(w uint64, width int) uint64 {
	if top := uint64(1) << (8*width - 1); w&top == 0 {
		return ^w & (top<<1 - 1)
	} else {
		return w ^ top
	}
}

func rotate(w uint64, width, by int) uint64 {
	if width == 4 {
		return uint64(bits.RotateLeft32(uint32(w), by))
	}
	return bits.RotateLeft64(w, by)
}

// fold brings a difference into width bytes as zigzag; unfold gives it back modulo 2^(8 width).
func fold(d uint64, width int) uint64 {
	if width == 4 {
		s := int32(uint32(d))
		return uint64(uint32(s<<1) ^ uint32(s>>31))
	}
	return zigzag(int64(d))
}

func unfold(w uint64, width int) uint64 {
	if width == 4 {
		return uint64(uint32(w>>1) ^ -uint32(w&1))
	}
	return uint64(unzigzag(w))
}

func transform(raw []uint64, codec byte, width int) []uint64 {
	out := make([]uint64, len(raw))
	var last, slope uint64
	for i, w := range raw {
		switch codec {
		case codecBits:
			out[i] = rotate(w, width, 1)
		case codecXOR:
			out[i], last = w^last, w
		default:
			o := ordered(w, width)
			d := o - last
			if last = o; codec == codecBend {
				d, slope = d-slope, d
			}
			out[i] = fold(d, width)
		}
	}
	return out
}

func restore(words []uint64, codec byte, width int) {
	var last, slope uint64
	mask := ^uint64(0) >> (64 - 8*width)
	for i, w := range words {
		switch codec {
		case codecBits:
			words[i] = rotate(w, width, -1)
		case codecXOR:
			last ^= w
			words[i] = last
		default:
			d := unfold(w, width)
			if codec == codecBend {
				slope += d
				d = slope
			}
			last = (last + d) & mask
			words[i] = unordered(last, width)
		}
	}
}

// planeCost estimates the bytes that the planes of words will take, from the entropy of a sample of them.
func planeCost(words []uint64, width int) float64 {
	const sample = 1024
	every := max(1, len(words)/sample)
	var histogram [8][256]uint16
	n := 0
	for i := 0; i < len(words); i += every {
		w := words[i]
		for k := range width {
			histogram[k][byte(w>>(8*k))]++
		}
		n++
	}
	cost := 0.0
	for k := range width {
		used, sum := 0, 0.0
		for _, c := range histogram[k] {
			if c > 0 {
				used++
				sum += float64(c) * logs[c]
			}
		}
		if used == 1 {
			cost += 2
			continue
		}
		entropy := (float64(n)*math.Log2(float64(n)) - sum) / 8 * float64(every)
		cost += min(entropy+float64(used)/2, float64(len(words)))
	}
	return cost
}

// logs[c] is log2(c).
var logs = func() (out [2049]float64) {
	for c := 1; c < len(out); c++ {
		out[c] = math.Log2(float64(c))
	}
	return out
}()

func asDictionary(values []float64) []byte {
	var slots [1024]struct {
		bits  uint64
		index int32 // from 1
	}
	var words [MaxBlock]uint64
	known := make([]uint64, 0, maxDictionary)
	limit := min(maxDictionary, len(values)/2+1)
	for i, v := range values {
		w := math.Float64bits(v)
		at := (w * 0x9e3779b97f4a7c15) >> 54
		for slots[at].index != 0 && slots[at].bits != w {
			at = (at + 1) % uint64(len(slots))
		}
		if slots[at].index == 0 {
			if len(known) == limit {
				return nil
			}
			known = append(known, w)
			slots[at].bits, slots[at].index = w, int32(len(known))
		}
		words[i] = uint64(slots[at].index - 1)
	}
	head, width := byte(codecDictionary), 8
	if allSingle(values) {
		head, width = codecDictionary|singles, 4
	}
	out := binary.AppendUvarint([]byte{head}, uint64(len(known)))
	for _, w := range known {
		var b [8]byte
		binary.LittleEndian.PutUint64(b[:], toBits(math.Float64frombits(w), width))
		out = append(out, b[:width]...)
	}
	return appendPlanes(out, words[:len(values)], 1)
}

var tens = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12}

func asDecimal(values []float64) []byte {
	e := 0
	for _, v := range values {
		for ; e < len(tens); e++ {
			if _, ok := scaled(v, e); ok {
				break
			}
		}
		if e == len(tens) {
			return nil
		}
	}
	ints := make([]int64, len(values))
	for i, v := range values { // an exponent found late must hold for the values before it too
		m, ok := scaled(v, e)
		if !ok {
			return nil
		}
		ints[i] = m
	}
	return appendInts([]byte{codecDecimal, byte(e)}, ints)
}

// scaled is v 10^e where that is a whole number that gives v back in every bit.
func scaled(v float64, e int) (int64, bool) {
	m := math.Round(v * tens[e])
	if !(math.Abs(m) < 1<<53) {
		return 0, false
	}
	return int64(m), math.Float64bits(float64(int64(m))/tens[e]) == math.Float64bits(v)
}

// values reads n values; n is at most MaxBlock, so hostile input takes a bounded stretch of memory.
func (d *decoder) values(n int) []float64 {
	if n == 0 {
		return nil
	}
	head := d.byte()
	width := 8
	if head&singles != 0 {
		width = 4
	}
	out, codec := make([]float64, n), head&^byte(singles)
	switch codec {
	case codecDictionary:
		d.dictionary(out, width)
	case codecBits, codecXOR, codecDifferences, codecBend:
		var words [MaxBlock]uint64
		d.planes(words[:n], width)
		restore(words[:n], codec, width)
		for i := range out {
			out[i] = fromBits(words[i], width)
		}
	case codecDecimal:
		e := int(d.byte())
		if e >= len(tens) {
			d.fail("unknown power of ten")
			return nil
		}
		for i, m := range d.ints(n) {
			out[i] = float64(m) / tens[e]
		}
	default:
		d.fail("unknown codec")
	}
	return out
}

func (d *decoder) dictionary(out []float64, width int) {
	k := d.count(width)
	if k < 1 || k > maxDictionary {
		d.fail("dictionary out of bounds")
		return
	}
	known := make([]float64, k)
	for i := range known {
		var b [8]byte
		copy(b[:], d.take(width))
		known[i] = fromBits(binary.LittleEndian.Uint64(b[:]), width)
	}
	var words [MaxBlock]uint64
	d.planes(words[:len(out)], 1)
	for i := range out {
		if words[i] >= uint64(k) {
			d.fail("index outside the dictionary")
			return
		}
		out[i] = known[words[i]]
	}
}
