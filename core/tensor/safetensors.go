package tensor

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"sort"
)

// Tensor is a named array, row-major, little endian.
type Tensor struct {
	Name  string
	Dtype string // "F64", "F32", "I64", "U8" ...
	Shape []int64
	Data  []byte
}

// widths are the bytes per element of the dtypes that the format names.
var widths = map[string]int64{
	"F64": 8, "I64": 8, "U64": 8, "F32": 4, "I32": 4, "U32": 4, "F16": 2, "BF16": 2, "I16": 2, "U16": 2,
	"I8": 1, "U8": 1, "BOOL": 1, "F8_E4M3": 1, "F8_E5M2": 1,
}

// maxHeader is the format's own limit on its header, in bytes.
const maxHeader = 100 << 20

// ErrFormat is wrapped by every error about the content of a file.
var ErrFormat = errors.New("not a valid safetensors file")

// Float64 is a tensor of float64 values. It panics if the shape does not hold len(values) elements.
func Float64(name string, shape []int64, values []float64) Tensor {
	if elements(shape) != int64(len(values)) {
		panic(fmt.Sprintf("tensor %q: shape %v does not hold %d values", name, shape, len(values)))
	}
	data := make([]byte, 0, 8*len(values))
	for _, v := range values {
		data = binary.LittleEndian.AppendUint64(data, math.Float64bits(v))
	}
	return Tensor{Name: name, Dtype: "F64", Shape: shape, Data: data}
}

// Float64s are the values of an F64 tensor.
func (t Tensor) Float64s() ([]float64, error) {
	if t.Dtype != "F64" || len(t.Data)%8 != 0 {
		return nil, fmt.Errorf("tensor %q is %s, not F64", t.Name, t.Dtype)
	}
	out := make([]float64, len(t.Data)/8)
	for i := range out {
		out[i] = math.Float64frombits(binary.LittleEndian.Uint64(t.Data[8*i:]))
	}
	return out, nil
}

type entry struct {
	Dtype   string   `json:"dtype"`
	Shape   []int64  `json:"shape"`
	Offsets [2]int64 `json:"data_offsets"`
}

// WriteSafetensors writes tensors, sorted by name, so that equal tensors give equal bytes.
func WriteSafetensors(w io.Writer, tensors []Tensor) error {
	sorted := append([]Tensor(nil), tensors...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Name < sorted[j].Name })
	header := make(map[string]entry, len(sorted))
	var at int64
	for _, t := range sorted {
		width, ok := widths[t.Dtype]
		size := int64(len(t.Data))
		if !ok || elements(t.Shape)*width != size {
			return fmt.Errorf("tensor %q: %d bytes do not fill %s %v", t.Name, size, t.Dtype, t.Shape)
		}
		if _, twice := header[t.Name]; twice {
			return fmt.Errorf("tensor %q is there twice", t.Name)
		}
		header[t.Name] = entry{t.Dtype, append([]int64{}, t.Shape...), [2]int64{at, at + size}}
		at += size
	}
	text, err := json.Marshal(header)
	if err != nil {
		return fmt.Errorf("write safetensors header: %w", err)
	}
	for len(text)%8 != 0 {
		text = append(text, ' ')
	}
	if _, err := w.Write(append(binary.LittleEndian.AppendUint64(nil, uint64(len(text))), text...)); err != nil {
		return err
	}
	for _, t := range sorted {
		if _, err := w.Write(t.Data); err != nil {
			return err
		}
	}
	return nil
}

// ReadSafetensors reads a file of size bytes. Hostile input is assumed: the header's length and every offset are checked
// against size before memory is taken, the data must be covered without gaps or overlaps, so the memory is bounded by size.
func ReadSafetensors(r io.Reader, size int64) ([]Tensor, error) {
	var prefix [8]byte
	if _, err := io.ReadFull(r, prefix[:]); err != nil {
		return nil, fmt.Errorf("%w: no header length", ErrFormat)
	}
	length := binary.LittleEndian.Uint64(prefix[:])
	if length > maxHeader || int64(length) > size-8 {
		return nil, fmt.Errorf("%w: header of %d bytes in a file of %d", ErrFormat, length, size)
	}
	text := make([]byte, length)
	if _, err := io.ReadFull(r, text); err != nil {
		return nil, fmt.Errorf("%w: header cut short", ErrFormat)
	}
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return nil, fmt.Errorf("%w: header: %v", ErrFormat, err)
	}
	delete(raw, "__metadata__")
	type placed struct {
		name string
		entry
	}
	list := make([]placed, 0, len(raw))
	for name, message := range raw {
		var e entry
		if err := json.Unmarshal(message, &e); err != nil {
			return nil, fmt.Errorf("%w: tensor %q: %v", ErrFormat, name, err)
		}
		list = append(list, placed{name, e})
	}
	sort.Slice(list, func(i, j int) bool {
		a, b := list[i], list[j]
		if a.Offsets != b.Offsets {
			return a.Offsets[0] < b.Offsets[0] || a.Offsets[0] == b.Offsets[0] && a.Offsets[1] < b.Offsets[1]
		}
		return a.name < b.name
	})
	data := size - 8 - int64(length)
	var at int64
	out := make([]Tensor, 0, len(list))
	for _, e := range list {
		width, known := widths[e.Dtype]
		bytes := e.Offsets[1] - e.Offsets[0]
		count := elements(e.Shape)
		if !known || e.Offsets[0] != at || bytes < 0 || e.Offsets[1] > data || count < 0 || count > data/width || count*width != bytes {
			return nil, fmt.Errorf("%w: tensor %q: %s %v at bytes %v of %d", ErrFormat, e.name, e.Dtype, e.Shape, e.Offsets, data)
		}
		t := Tensor{Name: e.name, Dtype: e.Dtype, Shape: e.Shape, Data: make([]byte, bytes)}
		if _, err := io.ReadFull(r, t.Data); err != nil {
			return nil, fmt.Errorf("%w: tensor %q cut short", ErrFormat, e.name)
		}
		out = append(out, t)
		at = e.Offsets[1]
	}
	if at != data {
		return nil, fmt.Errorf("%w: %d bytes of data that no tensor claims", ErrFormat, data-at)
	}
	return out, nil
}

// elements is the product of a shape, or -1 where a dimension is negative or the product overflows.
func elements(shape []int64) int64 {
	n := int64(1)
	for _, d := range shape {
		if d < 0 || (d > 0 && n > math.MaxInt64/d) {
			return -1
		}
		n *= d
	}
	return n
}
