package api

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"github.com/danielgtaylor/huma/v2"
	"github.com/fxamacker/cbor/v2"
)

// CBOR is the media type of the binary form: RFC 8949, with lists of numbers as the typed arrays of RFC 8746.
const CBOR = "application/cbor"

// Format reads and writes it. What it takes is bounded by the body's length.
var Format = huma.Format{
	Marshal:   func(w io.Writer, v any) error { return pack.NewEncoder(w).Encode(v) },
	Unmarshal: unpack.Unmarshal,
}

var pack = func() cbor.EncMode {
	mode, err := cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode()
	if err != nil {
		panic(err) // the options are constant
	}
	return mode
}()

var unpack = func() cbor.DecMode {
	mode, err := cbor.DecOptions{DupMapKey: cbor.DupMapKeyEnforcedAPF, MaxNestedLevels: 8, MaxArrayElements: 1 << 20,
		MaxMapPairs: 1 << 14}.DecMode()
	if err != nil {
		panic(err) // the options are constant
	}
	return mode
}()

// UnmarshalCBOR reads what Format's Marshal wrote.
func UnmarshalCBOR(data []byte, into any) error {
	if err := unpack.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%w: %w", ErrCBOR, err)
	}
	return nil
}

// ErrCBOR is wrapped by errors of CBOR that cannot be read into what is wanted.
var ErrCBOR = errors.New("not the CBOR that is wanted")

// Ints is a list of whole numbers; in CBOR a typed array.
type Ints []int64

// Typed arrays of RFC 8746, section 2.1: the tag's lowest two bits are the size, the third little endian, the fourth
// signed (integers), the fifth floating point.
const (
	tagInt32   = 78
	tagInt64   = 79
	tagFloat32 = 85
	tagFloat64 = 86
	null       = 0xf6 // RFC 8949, section 3.3
)

// MarshalCBOR implements cbor.Marshaler: int32 where all fit, else int64, little endian.
func (n Ints) MarshalCBOR() ([]byte, error) {
	if n == nil {
		return []byte{null}, nil
	}
	for _, v := range n {
		if v != int64(int32(v)) {
			out := typedHead(tagInt64, 8*len(n))
			for _, v := range n {
				out = binary.LittleEndian.AppendUint64(out, uint64(v))
			}
			return out, nil
		}
	}
	out := typedHead(tagInt32, 4*len(n))
	for _, v := range n {
		out = binary.LittleEndian.AppendUint32(out, uint32(int32(v)))
	}
	return out, nil
}

// MarshalCBOR implements cbor.Marshaler: float32 where that loses no bit, else float64, little endian.
func (f Floats) MarshalCBOR() ([]byte, error) {
	if f == nil {
		return []byte{null}, nil
	}
	for _, v := range f {
		if math.Float64bits(float64(float32(v))) != math.Float64bits(v) {
			out := typedHead(tagFloat64, 8*len(f))
			for _, v := range f {
				out = binary.LittleEndian.AppendUint64(out, math.Float64bits(v))
			}
			return out, nil
		}
	}
	out := typedHead(tagFloat32, 4*len(f))
	for _, v := range f {
		out = binary.LittleEndian.AppendUint32(out, math.Float32bits(float32(v)))
	}
	return out, nil
}

func typedHead(tag byte, size int) []byte {
	out := make([]byte, 0, 11+size)
	out = append(out, 0xd8, tag)
	switch {
	case size < 24:
		return append(out, 0x40|byte(size))
	case size < 1<<16:
		return binary.BigEndian.AppendUint16(append(out, 0x59), uint16(size))
	}
	return binary.BigEndian.AppendUint32(append(out, 0x5a), uint32(size))
}

// typed takes a typed array apart: its elements in order, each as the bits of a float64 or as an integer.
func typed(data []byte, integer func(int64), float func(float64)) (done bool, err error) {
	if len(data) < 3 || data[0] != 0xd8 || data[1] < 64 || data[1] > 87 {
		return false, nil
	}
	tag := data[1]
	var raw []byte
	if err := unpack.Unmarshal(data[2:], &raw); err != nil {
		return true, fmt.Errorf("typed array: %w", err)
	}
	isFloat, signed, little := tag&16 != 0, tag&8 != 0, tag&4 != 0
	size := 1 << (tag & 3)
	if isFloat {
		size *= 2
	}
	if size > 8 || isFloat && size < 4 || tag == 76 || len(raw)%size != 0 {
		return true,
			fmt.Errorf("typed array with tag %d and %d bytes is none that is understood here; use integers, float32 or float64", tag, len(raw))
	}
	var order binary.ByteOrder = binary.BigEndian
	if little {
		order = binary.LittleEndian
	}
	for ; len(raw) > 0; raw = raw[size:] {
		var w uint64
		switch size {
		case 1:
			w = uint64(raw[0])
		case 2:
			w = uint64(order.Uint16(raw))
		case 4:
			w = uint64(order.Uint32(raw))
		case 8:
			w = order.Uint64(raw)
		}
		switch {
		case isFloat && size == 4:
			float(float64(math.Float32frombits(uint32(w))))
		case isFloat:
			float(math.Float64frombits(w))
		case signed:
			shift := 64 - 8*size
			integer(int64(w<<shift) >> shift)
		case w > math.MaxInt64:
			return true, fmt.Errorf("number %d is too large", w)
		default:
			integer(int64(w))
		}
	}
	return true, nil
}

// UnmarshalCBOR implements cbor.Unmarshaler.
func (n *Ints) UnmarshalCBOR(data []byte) error {
	if len(data) == 1 && data[0] == null {
		*n = nil
		return nil
	}
	out, fractions := make(Ints, 0, len(data)/4), false
	done, err := typed(data, func(v int64) { out = append(out, v) }, func(float64) { fractions = true })
	switch {
	case !done:
		err = unpack.Unmarshal(data, (*[]int64)(&out))
	case fractions:
		err = fmt.Errorf("a list of whole numbers is wanted, not of floats")
	}
	*n = out
	return err
}

// UnmarshalCBOR implements cbor.Unmarshaler.
func (f *Floats) UnmarshalCBOR(data []byte) error {
	if len(data) == 1 && data[0] == null {
		*f = nil
		return nil
	}
	out := make(Floats, 0, len(data)/4)
	done, err := typed(data, func(v int64) { out = append(out, float64(v)) }, func(v float64) { out = append(out, v) })
	if !done {
		err = unpack.Unmarshal(data, (*[]float64)(&out))
	}
	*f = out
	return err
}
