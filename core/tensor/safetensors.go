package tensor

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"sort"
)

// safetensors: 8 bytes little endian with the length of a JSON header, the header
// {"name": {"dtype": "F32", "shape": [2, 3], "data_offsets": [0, 24]}, ...}, then the data without gaps.

// maxHeader is the format's own limit on its header, in bytes.
const maxHeader = 100 << 20

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
		size := int64(len(t.Data))
		if t.Dtype == "C64" || t.Dtype == "C128" || widths[t.Dtype] == 0 || t.Bytes() != size {
			return fmt.Errorf("tensor %q: %d bytes do not fill %s %v", t.Name, size, t.Dtype, t.Shape)
		}
		if _, twice := header[t.Name]; twice || t.Name == "__metadata__" {
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

// openSafetensors reads the header. Its length and every offset are checked against size before memory is taken; the
// data must be covered without gaps or overlaps.
func openSafetensors(r io.ReaderAt, size int64) (*File, error) {
	var prefix [8]byte
	if size < 8 {
		return nil, bad("no header length")
	}
	if _, err := r.ReadAt(prefix[:], 0); err != nil {
		return nil, err
	}
	length := binary.LittleEndian.Uint64(prefix[:])
	if length > maxHeader || int64(length) > size-8 {
		return nil, bad("it begins like no format known here (safetensors, NPY, NPZ): as safetensors it would have a header of %d bytes in a file of %d", length, size)
	}
	text := make([]byte, length)
	if _, err := r.ReadAt(text, 8); err != nil {
		return nil, err
	}
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return nil, bad("header: %w", err)
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
			return nil, bad("tensor %q: %w", name, err)
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
	begin := 8 + int64(length)
	data := size - begin
	var at int64
	f := &File{Format: "safetensors"}
	for _, e := range list {
		width, known := widths[e.Dtype]
		bytes := e.Offsets[1] - e.Offsets[0]
		count := elements(e.Shape)
		if !known || e.Offsets[0] != at || bytes < 0 || e.Offsets[1] > data || count < 0 || count > data/width ||
			count*width != bytes {
			return nil, bad("tensor %q: %s %v at bytes %v of %d", e.name, e.Dtype, e.Shape, e.Offsets, data)
		}
		from := begin + at
		f.Tensors = append(f.Tensors, Info{e.name, e.Dtype, append([]int64{}, e.Shape...)})
		f.stored = append(f.stored,
			stored{open: func() (io.Reader, error) { return io.NewSectionReader(r, from, bytes), nil }})
		at = e.Offsets[1]
	}
	if at != data {
		return nil, bad("%d bytes of data that no tensor claims", data-at)
	}
	return f, nil
}
