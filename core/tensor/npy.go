package tensor

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"
)

// NPY, versions 1 to 3: "\x93NUMPY", two bytes of version, the length of the header (2 or 4 bytes, little endian), the
// header as the text of a Python dict {'descr': '<f8', 'fortran_order': False, 'shape': (2, 3), }, then the data. NPZ
// is a zip archive of them, stored or deflated (zip64 where needed).

const npyMagic = "\x93NUMPY"

// maxNPYHeader bounds the header of an array, in bytes.
const maxNPYHeader = 1 << 20

// maxDimensions bounds the shape of a tensor.
const maxDimensions = 64

// kinds are NPY's types without byte order.
var kinds = map[string]string{"f8": "F64", "f4": "F32", "f2": "F16", "i8": "I64", "i4": "I32", "i2": "I16", "i1": "I8",
	"u8": "U64", "u4": "U32", "u2": "U16", "u1": "U8",
	"b1": "BOOL", "c8": "C64", "c16": "C128"}

func openNPY(r io.ReaderAt, size int64) (*File, error) {
	info, s, begin, err := readNPYHeader(io.NewSectionReader(r, 0, size), size)
	if err != nil {
		return nil, err
	}
	info.Name = "array"
	s.open = func() (io.Reader, error) { return io.NewSectionReader(r, begin, info.Bytes()), nil }
	return &File{Format: "npy", Tensors: []Info{info}, stored: []stored{s}}, nil
}

// readNPYHeader reads the head of an array that takes size bytes and returns where its data begin.
func readNPYHeader(r io.Reader, size int64) (info Info, s stored, begin int64, err error) {
	head := make([]byte, 12)
	if _, err := io.ReadFull(r, head[:10]); err != nil || string(head[:6]) != npyMagic {
		return info, s, 0, bad("it does not begin as NPY does")
	}
	length, begin := int64(binary.LittleEndian.Uint16(head[8:])), int64(10)
	switch head[6] {
	case 1:
	case 2, 3:
		if _, err := io.ReadFull(r, head[10:12]); err != nil {
			return info, s, 0, bad("NPY header cut short")
		}
		length, begin = int64(binary.LittleEndian.Uint32(head[8:])), 12
	default:
		return info, s, 0, bad("NPY version %d is not known here", head[6])
	}
	if length > maxNPYHeader || length > size-begin {
		return info, s, 0, bad("NPY header of %d bytes in %d", length, size)
	}
	text := make([]byte, length)
	if _, err := io.ReadFull(r, text); err != nil {
		return info, s, 0, bad("NPY header cut short")
	}
	begin += length
	if info, s, err = parseNPYHeader(string(text)); err != nil {
		return info, s, 0, err
	}
	if count := info.Count(); count < 0 || count > (size-begin)/widths[info.Dtype] ||
		count*widths[info.Dtype] != size-begin {
		return info, s, 0, bad("%s %v does not fill %d bytes", info.Dtype, info.Shape, size-begin)
	}
	return info, s, begin, nil
}

// parseNPYHeader reads the three entries of the dict, in any order.
func parseNPYHeader(text string) (info Info, s stored, err error) {
	rest := strings.TrimSpace(text)
	rest, ok := strings.CutPrefix(rest, "{")
	if !ok {
		return info, s, bad("NPY header %.80q is no dict", text)
	}
	seen := map[string]bool{}
	for {
		rest = strings.TrimLeft(rest, " ,\n")
		if rest == "}" {
			break
		}
		key, after, ok := quoted(rest)
		if !ok {
			return info, s, bad("NPY header %.80q", text)
		}
		after, ok = strings.CutPrefix(strings.TrimLeft(after, " "), ":")
		rest = strings.TrimLeft(after, " ")
		if !ok {
			return info, s, bad("NPY header %.80q", text)
		}
		if seen[key] {
			return info, s, bad("NPY header says %.40q twice", key)
		}
		seen[key] = true
		switch key {
		case "descr":
			var descr string
			if descr, rest, ok = quoted(rest); !ok {
				return info, s, bad("its elements are structures, which cannot be read here: %.80q", text)
			}
			if info.Dtype, s.swap, err = parseDescr(descr); err != nil {
				return info, s, err
			}
		case "fortran_order":
			if after, ok := strings.CutPrefix(rest, "True"); ok {
				s.columns, rest = true, after
			} else if rest, ok = strings.CutPrefix(rest, "False"); !ok {
				return info, s, bad("NPY header %.80q", text)
			}
		case "shape":
			inside, after, ok := strings.Cut(rest, ")")
			inside, open := strings.CutPrefix(inside, "(")
			if rest = after; !ok || !open {
				return info, s, bad("NPY header %.80q", text)
			}
			info.Shape = []int64{}
			for _, part := range strings.Split(inside, ",") {
				if part = strings.TrimSuffix(strings.TrimSpace(part), "L"); part == "" {
					continue
				}
				n, err := strconv.ParseInt(part, 10, 64)
				if err != nil || len(info.Shape) == maxDimensions {
					return info, s, bad("NPY shape %.80q", inside)
				}
				info.Shape = append(info.Shape, n)
			}
		default:
			return info, s, bad("NPY header has %.40q", key)
		}
	}
	if len(seen) != 3 || info.Dtype == "" || info.Shape == nil {
		return info, s, bad("NPY header %.80q does not say descr, fortran_order and shape", text)
	}
	return info, s, nil
}

func quoted(text string) (inside, rest string, ok bool) {
	if text == "" || text[0] != '\'' && text[0] != '"' {
		return "", text, false
	}
	return strings.Cut(text[1:], text[:1])
}

func parseDescr(descr string) (dtype string, swap int, err error) {
	kind := strings.TrimLeft(descr, "<>|=")
	dtype, known := kinds[kind]
	switch {
	case strings.HasPrefix(kind, "O"):
		return "", 0, bad("its elements are Python objects, which are not read here: loading them can run code")
	case !known:
		return "", 0, bad("elements of type %.20q are not numbers that can be read here", descr)
	case strings.HasPrefix(descr, ">"):
		if swap = int(widths[dtype]); dtype[0] == 'C' {
			swap /= 2
		}
	}
	if swap == 1 {
		swap = 0
	}
	return dtype, swap, nil
}

func openNPZ(r io.ReaderAt, size int64) (*File, error) {
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return nil, bad("zip: %w", err)
	}
	f := &File{Format: "npz"}
	if len(archive.File) > MaxTensors {
		return nil, bad("the archive has %d members; at most %d are read", len(archive.File), MaxTensors)
	}
	if err := unfolds(archive.File, size); err != nil {
		return nil, err
	}
	members := archive.File
	sort.Slice(members, func(i, j int) bool { return members[i].Name < members[j].Name })
	for i, m := range members {
		name, is := strings.CutSuffix(m.Name, ".npy")
		if !is {
			continue
		}
		if i > 0 && members[i-1].Name == m.Name {
			return nil, bad("member %q is there twice", m.Name)
		}
		if m.UncompressedSize64 > 1<<62 {
			return nil, bad("member %q has %d bytes", m.Name, m.UncompressedSize64)
		}
		content, err := m.Open()
		if err != nil {
			return nil, bad("member %q: %w", m.Name, err)
		}
		info, s, begin, err := readNPYHeader(content, int64(m.UncompressedSize64))
		content.Close()
		if err != nil {
			return nil, fmt.Errorf("member %q: %w", m.Name, err)
		}
		info.Name = name
		s.open = func() (io.Reader, error) {
			content, err := m.Open()
			if err != nil {
				return nil, err
			}
			if _, err = io.CopyN(io.Discard, content, begin); err != nil {
				return nil, bad("member %q: %w", m.Name, err)
			}
			return &whole{from: content, left: info.Bytes()}, nil
		}
		f.Tensors, f.stored = append(f.Tensors, info), append(f.stored, s)
	}
	if len(f.Tensors) == 0 {
		return nil, bad("the archive holds no .npy member")
	}
	return f, nil
}

// What an archive may unfold to: so many times its own size, and UnfoldFree bytes in any case. Deflate makes a thousand
// bytes of one, so that a small file could keep a reader busy for hours; weights, even sparse ones, stay far below
// this.
const (
	UnfoldMost = 100
	UnfoldFree = 256 << 20
)

// unfolds refuses an archive that would unfold to more than is read. Every byte that is read of it later counts here,
// as members that give more than they say are refused.
func unfolds(members []*zip.File, size int64) error {
	most, total := uint64(max(UnfoldFree, UnfoldMost*size)), uint64(0)
	for _, m := range members {
		if total += min(m.UncompressedSize64, most+1); total > most {
			return bad("its %d bytes unfold to more than %d, which is more than %d times as many", size, most,
				UnfoldMost)
		}
	}
	return nil
}

// whole reads a member to its end, where its checksum is compared; what it is wrong of is not handed out as read.
type whole struct {
	from io.Reader
	left int64
}

func (w *whole) Read(p []byte) (int, error) {
	if w.left == 0 {
		return 0, io.EOF
	}
	n, err := w.from.Read(p[:min(int64(len(p)), w.left)])
	w.left -= int64(n)
	if w.left > 0 && (err == nil || errors.Is(err, io.EOF)) {
		return n, err
	}
	if err == nil {
		_, err = w.from.Read(make([]byte, 1))
	}
	switch {
	case errors.Is(err, io.EOF):
		return n, nil
	case err == nil:
		err = errors.New("it is longer than it says")
	}
	return 0, bad("its bytes are damaged: %w", err)
}

// WriteNPY writes one tensor as NPY version 1, row-major. NPY has no type for BF16 and F8.
func WriteNPY(w io.Writer, t Tensor) error {
	descr := ""
	for kind, dtype := range kinds {
		if dtype == t.Dtype {
			descr = "<" + kind
		}
	}
	if descr == "" {
		return fmt.Errorf("tensor %q: NPY has no type for %s; write safetensors", t.Name, t.Dtype)
	}
	if t.Bytes() != int64(len(t.Data)) {
		return fmt.Errorf("tensor %q: %d bytes do not fill %s %v", t.Name, len(t.Data), t.Dtype, t.Shape)
	}
	if widths[t.Dtype] == 1 {
		descr = "|" + descr[1:]
	}
	var shape strings.Builder
	for _, d := range t.Shape {
		fmt.Fprintf(&shape, "%d, ", d)
	}
	inside := strings.TrimSuffix(shape.String(), " ")
	if len(t.Shape) != 1 {
		inside = strings.TrimSuffix(inside, ",")
	}
	header := fmt.Sprintf("{'descr': '%s', 'fortran_order': False, 'shape': (%s), }", descr, inside)
	header += strings.Repeat(" ", (64-(10+len(header)+1)%64)%64) + "\n"
	if len(header) > 1<<16-1 {
		return errors.New("shape is too long for NPY version 1")
	}
	head := append([]byte(npyMagic), 1, 0)
	head = append(binary.LittleEndian.AppendUint16(head, uint16(len(header))), header...)
	if _, err := w.Write(head); err != nil {
		return err
	}
	_, err := w.Write(t.Data)
	return err
}

// WriteNPZ writes tensors as a zip archive of stored NPY members, sorted by name.
func WriteNPZ(w io.Writer, tensors []Tensor) error {
	sorted := append([]Tensor(nil), tensors...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Name < sorted[j].Name })
	archive := zip.NewWriter(w)
	for i, t := range sorted {
		if i > 0 && sorted[i-1].Name == t.Name {
			return fmt.Errorf("tensor %q is there twice", t.Name)
		}
		member, err := archive.CreateHeader(&zip.FileHeader{Name: t.Name + ".npy", Method: zip.Store})
		if err != nil {
			return err
		}
		var b bytes.Buffer
		if err := WriteNPY(&b, t); err != nil {
			return err
		}
		if _, err := member.Write(b.Bytes()); err != nil {
			return err
		}
	}
	return archive.Close()
}
