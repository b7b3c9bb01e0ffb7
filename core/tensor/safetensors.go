package tensor

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"unicode/utf8"
)

// safetensors: 8 bytes little endian with the length of a JSON header, the header
// {"name": {"dtype": "F32", "shape": [2, 3], "data_offsets": [0, 24]}, ...}, then the data without gaps. Further
// names of a tensor stand in the header's own __metadata__, which holds texts: "also:NAME": "FIRST NAME".

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
		return nil,
			bad("it begins like no format known here (safetensors, NPY, NPZ): as safetensors it would have a header of %d bytes in a file of %d", length, size)
	}
	text := make([]byte, length)
	if _, err := r.ReadAt(text, 8); err != nil {
		return nil, err
	}
	list, also, err := parseHeader(text)
	if err != nil {
		return nil, err
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
		switch {
		case !known:
			return nil, bad("tensor %.200q has the dtype %.40q, which is not known here", e.name, e.Dtype)
		case e.Offsets[0] != at || bytes < 0 || e.Offsets[1] > data:
			return nil, bad("tensor %.200q lies at bytes %v of %d, where byte %d is the next", e.name, e.Offsets,
				data, at)
		case count < 0 || count > data/width || count*width != bytes:
			return nil, bad("tensor %.200q: %s %s does not fill %d bytes", e.name, e.Dtype, fmt.Sprint(e.Shape), bytes)
		}
		from := begin + at
		f.Tensors = append(f.Tensors, Info{e.name, e.Dtype, e.Shape, also[e.name]})
		f.stored = append(f.stored,
			stored{open: func() (io.Reader, error) { return io.NewSectionReader(r, from, bytes), nil }})
		at = e.Offsets[1]
	}
	if at != data {
		return nil, bad("%d bytes of data that no tensor claims", data-at)
	}
	return f, nil
}

// placed is an entry of the header with its name.
type placed struct {
	name string
	entry
}

// parseHeader reads a header as strictly as the format is: an object and nothing else, in UTF-8, no key twice, each
// tensor with a dtype, a shape and two offsets; __metadata__ holds texts only.
func parseHeader(text []byte) (list []placed, also map[string][]string, err error) {
	switch {
	case !utf8.Valid(text):
		return nil, nil, bad("header: it is not UTF-8")
	case !json.Valid(text):
		return nil, nil, bad("header: it is not JSON")
	}
	also = map[string][]string{}
	err = object(text, func(name string, value json.RawMessage) error {
		if name == "__metadata__" {
			return object(value, func(key string, value json.RawMessage) error {
				if value[0] != '"' {
					return fmt.Errorf("%.200q is no text", key)
				}
				if name, ok := strings.CutPrefix(key, "also:"); ok {
					var first string
					if err := json.Unmarshal(value, &first); err != nil {
						return err
					}
					also[first] = append(also[first], name)
				}
				return nil
			})
		}
		e := placed{name: name}
		var offsets []int64
		err := object(value, func(key string, value json.RawMessage) error {
			switch key {
			case "dtype":
				return json.Unmarshal(value, &e.Dtype)
			case "shape":
				return integers(value, &e.Shape)
			case "data_offsets":
				return integers(value, &offsets)
			}
			return nil // readers pass over what they do not know
		})
		switch {
		case err != nil:
			return err
		case e.Dtype == "" || e.Shape == nil:
			return errors.New("it does not say dtype and shape")
		case len(e.Shape) > maxDimensions:
			return fmt.Errorf("it has %d dimensions, of which at most %d are read", len(e.Shape), maxDimensions)
		case len(offsets) != 2:
			return fmt.Errorf("its data_offsets are %d, not 2", len(offsets))
		}
		e.Offsets = [2]int64(offsets)
		if len(list) == MaxTensors {
			return fmt.Errorf("it is one of more than %d tensors", MaxTensors)
		}
		list = append(list, e)
		return nil
	})
	if err != nil {
		return nil, nil, bad("header: %w", err)
	}
	return list, also, nil
}

// integers reads a list of them, of which none may be null.
func integers(value json.RawMessage, to *[]int64) error {
	if bytes.Contains(value, []byte("null")) {
		return fmt.Errorf("%.40q is no list of integers", value)
	}
	return json.Unmarshal(value, to)
}

// object reads the members of a JSON object, of which no key may be there twice. text is valid JSON. O(len(text)).
func object(text []byte, member func(key string, value json.RawMessage) error) error {
	rest := trimmed(text)
	if rest[0] != '{' {
		return fmt.Errorf("%.40q is no object", text)
	}
	seen := map[string]bool{}
	for rest = trimmed(rest[1:]); rest[0] != '}'; rest = trimmed(rest) {
		if rest[0] == ',' {
			rest = trimmed(rest[1:])
		}
		end := valueEnd(rest)
		key := string(rest[1 : end-1])
		if strings.Contains(key, `\`) {
			if err := json.Unmarshal(rest[:end], &key); err != nil {
				return err
			}
		}
		if seen[key] {
			return fmt.Errorf("%.200q is there twice", key)
		}
		seen[key] = true
		rest = trimmed(trimmed(rest[end:])[1:]) // behind the colon
		end = valueEnd(rest)
		if err := member(key, rest[:end:end]); err != nil {
			return fmt.Errorf("%.200q: %w", key, err)
		}
		rest = rest[end:]
	}
	return nil
}

func trimmed(text []byte) []byte { return bytes.TrimLeft(text, " \t\r\n") }

// valueEnd is where the value that valid JSON begins with ends.
func valueEnd(text []byte) int {
	depth := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '"':
			for i++; text[i] != '"'; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			if depth == 0 {
				return i + 1
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth == 0 {
				return i + 1
			}
			if depth < 0 { // of what a number or a word stands in
				return i
			}
		case ',', ' ', '\t', '\r', '\n':
			if depth == 0 {
				return i
			}
		}
	}
	return len(text)
}
