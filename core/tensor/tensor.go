package tensor

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
)

// widths are the bytes per element of the dtypes.
var widths = map[string]int64{
	"F64": 8, "I64": 8, "U64": 8, "F32": 4, "I32": 4, "U32": 4, "F16": 2, "BF16": 2, "I16": 2, "U16": 2,
	"I8": 1, "U8": 1, "BOOL": 1, "F8_E4M3": 1, "F8_E5M2": 1, "C64": 8, "C128": 16,
}

// ErrFormat is wrapped by every error about the content of a file.
var ErrFormat = errors.New("not a valid file of tensors")

func bad(format string, args ...any) error {
	return fmt.Errorf("%w: %w", ErrFormat, fmt.Errorf(format, args...))
}

// Info says what a tensor is.
type Info struct {
	Name  string   `json:"name"`
	Dtype string   `json:"dtype"`
	Shape []int64  `json:"shape"`
	Also  []string `json:"also,omitempty" maxItems:"1000" doc:"Further names of the same memory: weights that two layers share are stored once"`
}

// Count is the number of elements.
func (i Info) Count() int64 { return elements(i.Shape) }

// Bytes is the size of the data.
func (i Info) Bytes() int64 { return elements(i.Shape) * widths[i.Dtype] }

// Tensor is a tensor in memory: row-major, little endian.
type Tensor struct {
	Info
	Data []byte
}

// Float64 is a tensor of float64 values. It panics if the shape does not hold len(values) elements.
func Float64(name string, shape []int64, values []float64) Tensor {
	if elements(shape) != int64(len(values)) {
		panic(fmt.Sprintf("tensor %q: shape %v does not hold %d values", name, shape, len(values)))
	}
	data := make([]byte, 0, 8*len(values))
	for _, v := range values {
		data = binary.LittleEndian.AppendUint64(data, math.Float64bits(v))
	}
	return Tensor{Info{Name: name, Dtype: "F64", Shape: shape}, data}
}

// Float64s are the values of an F64 tensor.
func (t Tensor) Float64s() ([]float64, error) {
	if t.Dtype != "F64" || len(t.Data)%8 != 0 {
		return nil, fmt.Errorf("tensor %q is %s, not F64", t.Name, t.Dtype)
	}
	return floats(t.Dtype, t.Data, nil), nil
}

// File is an open file of tensors.
type File struct {
	Format  string // safetensors, npy or npz
	Tensors []Info
	stored  []stored
}

// stored is where and how the data of a tensor lie.
type stored struct {
	open    func() (io.Reader, error)
	swap    int  // bytes that are in the reverse order, in groups of so many; 0: none are
	columns bool // column-major
}

// MaxTensors is how many tensors are read of one file.
const MaxTensors = 100_000

// Open reads what tensors a file of size bytes holds: safetensors, NPY or NPZ, told by its first bytes. r is read again
// for the data.
func Open(r io.ReaderAt, size int64) (*File, error) {
	var head [8]byte
	n, err := r.ReadAt(head[:min(8, max(0, size))], 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case n >= 6 && string(head[:6]) == npyMagic:
		return openNPY(r, size)
	case n >= 4 && (string(head[:4]) == "PK\x03\x04" || string(head[:4]) == "PK\x05\x06"):
		return openNPZ(r, size)
	}
	return openSafetensors(r, size)
}

// maxTransposed is the largest column-major tensor whose data are handed out, in bytes: it is turned in memory.
const maxTransposed = 2 << 30

// Data reads the data of tensor i, row-major and little endian.
func (f *File) Data(i int) (io.Reader, error) {
	s, t := f.stored[i], f.Tensors[i]
	r, err := f.plain(i)
	if err != nil || !s.columns || len(t.Shape) < 2 {
		return r, err
	}
	if t.Bytes() > maxTransposed {
		return nil, fmt.Errorf("tensor %q is column-major and has %d bytes; at most %d can be turned", t.Name,
			t.Bytes(), int64(maxTransposed))
	}
	all, err := readAll(r, t.Bytes())
	if err != nil {
		return nil, bad("tensor %q: %w", t.Name, err)
	}
	return &reader{data: transpose(all, t.Shape, widths[t.Dtype])}, nil
}

// plain reads the data little endian, in the order of the file.
func (f *File) plain(i int) (io.Reader, error) {
	s := f.stored[i]
	r, err := s.open()
	if err != nil || s.swap == 0 {
		return r, err
	}
	return &swapper{from: r, width: s.swap}, nil
}

// Read reads tensor i whole.
func (f *File) Read(i int) (Tensor, error) {
	r, err := f.Data(i)
	if err != nil {
		return Tensor{}, err
	}
	data, err := readAll(r, f.Tensors[i].Bytes())
	if err != nil {
		return Tensor{}, bad("tensor %q: %w", f.Tensors[i].Name, err)
	}
	return Tensor{f.Tensors[i], data}, nil
}

// ReadAll reads all tensors of a file.
func ReadAll(r io.ReaderAt, size int64) ([]Tensor, error) {
	f, err := Open(r, size)
	if err != nil {
		return nil, err
	}
	out := make([]Tensor, len(f.Tensors))
	for i := range out {
		if out[i], err = f.Read(i); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// readAll reads exactly size bytes. Memory grows with what arrives: a compressed member may promise more than it holds.
func readAll(r io.Reader, size int64) ([]byte, error) {
	data := make([]byte, 0, min(size, 1<<20))
	for int64(len(data)) < size {
		if len(data) == cap(data) {
			data = append(data, 0)[:len(data)]
		}
		n, err := r.Read(data[len(data):min(int64(cap(data)), size)])
		data = data[:len(data)+n]
		if err != nil && int64(len(data)) < size {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
	}
	return data, nil
}

type reader struct{ data []byte }

func (r *reader) Read(p []byte) (int, error) {
	if len(r.data) == 0 {
		return 0, io.EOF
	}
	n := copy(p, r.data)
	r.data = r.data[n:]
	return n, nil
}

// swapper turns the order of bytes in groups.
type swapper struct {
	from  io.Reader
	width int
	left  []byte // turned, not yet handed out
	block [4096]byte
}

func (s *swapper) Read(p []byte) (int, error) {
	if len(s.left) == 0 {
		n, err := io.ReadFull(s.from, s.block[:])
		if n = n / s.width * s.width; n == 0 {
			if err == nil || errors.Is(err, io.ErrUnexpectedEOF) {
				err = io.EOF
			}
			return 0, err
		}
		for at := 0; at < n; at += s.width {
			for a, b := at, at+s.width-1; a < b; a, b = a+1, b-1 {
				s.block[a], s.block[b] = s.block[b], s.block[a]
			}
		}
		s.left = s.block[:n]
	}
	n := copy(p, s.left)
	s.left = s.left[n:]
	return n, nil
}

// transpose turns column-major data into row-major. O(elements).
func transpose(data []byte, shape []int64, width int64) []byte {
	out := make([]byte, len(data))
	index, strides := make([]int64, len(shape)), make([]int64, len(shape))
	stride := width
	for d := range shape {
		strides[d] = stride
		stride *= shape[d]
	}
	for at := int64(0); at < int64(len(out)); at += width {
		from := int64(0)
		for d, i := range index {
			from += i * strides[d]
		}
		copy(out[at:at+width], data[from:from+width])
		for d := len(index) - 1; d >= 0; d-- {
			if index[d]++; index[d] < shape[d] {
				break
			}
			index[d] = 0
		}
	}
	return out
}

// elements is the product of a shape, or -1 where a dimension is negative or the product overflows.
func elements(shape []int64) int64 {
	n, zero := int64(1), false
	for _, d := range shape {
		switch {
		case d < 0:
			return -1
		case d == 0:
			zero = true
		case n > math.MaxInt64/d:
			n = -1
		case n > 0:
			n *= d
		}
	}
	if zero {
		return 0
	}
	return n
}

// Join is a file of the tensors of several.
func Join(files ...*File) *File {
	out := &File{}
	for _, f := range files {
		out.Format = f.Format
		out.Tensors, out.stored = append(out.Tensors, f.Tensors...), append(out.stored, f.stored...)
	}
	return out
}

// ParseList reads a list of tensors from JSON, as a part architecture may hold it: {"tensors": [{"name":
// "layer1.weight", "dtype": "F64", "shape": [64, 384]}, ...]} beside anything else. ok is false where there is none. A
// dtype that is left out fits any.
func ParseList(text []byte) (list []Info, ok bool) {
	var doc struct {
		Tensors []Info `json:"tensors"`
	}
	if json.Unmarshal(text, &doc) != nil || doc.Tensors == nil {
		return nil, false
	}
	for i, t := range doc.Tensors {
		if t.Name == "" || elements(t.Shape) < 0 {
			return nil, false
		}
		if t.Shape == nil {
			doc.Tensors[i].Shape = []int64{}
		}
	}
	return doc.Tensors, true
}
