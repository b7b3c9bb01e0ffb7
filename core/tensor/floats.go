package tensor

import (
	"encoding/binary"
	"io"
	"math"
)

// floats appends the elements in data as float64. Whole numbers beyond 2^53 are rounded; a complex element counts as
// two.
func floats(dtype string, data []byte, out []float64) []float64 {
	le := binary.LittleEndian
	switch dtype {
	case "F64", "C128":
		for ; len(data) >= 8; data = data[8:] {
			out = append(out, math.Float64frombits(le.Uint64(data)))
		}
	case "F32", "C64":
		for ; len(data) >= 4; data = data[4:] {
			out = append(out, float64(math.Float32frombits(le.Uint32(data))))
		}
	case "BF16":
		for ; len(data) >= 2; data = data[2:] {
			out = append(out, float64(math.Float32frombits(uint32(le.Uint16(data))<<16)))
		}
	case "F16":
		for ; len(data) >= 2; data = data[2:] {
			out = append(out, small(uint32(le.Uint16(data)), 5, 10, true))
		}
	case "F8_E5M2":
		for _, b := range data {
			out = append(out, small(uint32(b), 5, 2, true))
		}
	case "F8_E4M3":
		for _, b := range data {
			out = append(out, small(uint32(b), 4, 3, false))
		}
	case "I64":
		for ; len(data) >= 8; data = data[8:] {
			out = append(out, float64(int64(le.Uint64(data))))
		}
	case "U64":
		for ; len(data) >= 8; data = data[8:] {
			out = append(out, float64(le.Uint64(data)))
		}
	case "I32":
		for ; len(data) >= 4; data = data[4:] {
			out = append(out, float64(int32(le.Uint32(data))))
		}
	case "U32":
		for ; len(data) >= 4; data = data[4:] {
			out = append(out, float64(le.Uint32(data)))
		}
	case "I16":
		for ; len(data) >= 2; data = data[2:] {
			out = append(out, float64(int16(le.Uint16(data))))
		}
	case "U16":
		for ; len(data) >= 2; data = data[2:] {
			out = append(out, float64(le.Uint16(data)))
		}
	case "I8":
		for _, b := range data {
			out = append(out, float64(int8(b)))
		}
	default: // U8, BOOL
		for _, b := range data {
			out = append(out, float64(b))
		}
	}
	return out
}

// small is a float of one sign bit, some bits of exponent and of fraction, as IEEE 754 has them; without infinities
// (ieee false) the greatest exponent is one like the others, and only all ones are NaN (Micikevicius et al., FP8
// Formats for Deep Learning, 2022).
func small(bits uint32, exponent, fraction int, ieee bool) float64 {
	sign := 1.0
	if bits>>(exponent+fraction) != 0 {
		sign = -1
	}
	top := 1<<exponent - 1
	e, f := int(bits>>fraction)&top, int(bits)&(1<<fraction-1)
	bias := top >> 1
	switch {
	case e == top && ieee && f == 0:
		return math.Inf(int(sign))
	case e == top && (ieee || f == 1<<fraction-1):
		return math.NaN()
	case e == 0:
		return math.Copysign(math.Ldexp(float64(f), 1-bias-fraction), sign)
	}
	return sign * math.Ldexp(float64(f|1<<fraction), e-bias-fraction)
}

// Floats reads the elements of tensor i as float64, in order, a part at a time; a part is good until the next. Whole
// numbers beyond 2^53 are rounded; a complex element counts as two.
func (f *File) Floats(i int, each func(part []float64) error) error {
	r, err := f.Data(i)
	if err != nil {
		return err
	}
	buffer, left := make([]byte, 256<<10), f.Tensors[i].Bytes()
	var part []float64
	for left > 0 {
		piece := buffer[:min(left, int64(len(buffer)))]
		if _, err := io.ReadFull(r, piece); err != nil {
			return bad("tensor %q: %w", f.Tensors[i].Name, err)
		}
		part = floats(f.Tensors[i].Dtype, piece, part[:0])
		if err := each(part); err != nil {
			return err
		}
		left -= int64(len(piece))
	}
	return nil
}
