package tensor

import (
	"archive/zip"
	"errors"
	"io"
	"slices"
)

// Grouped is the size below which tensors are not cut apart from their neighbours, in bytes.
const Grouped = 256 << 10

// maxBounds is how many places a file is cut at for its tensors' sake.
const maxBounds = 200_000

// Bounds are the places of a file of size bytes at which it is cut so that the same tensor gives the same pieces in
// whichever file it stands: the beginning and the end of every large tensor of a safetensors or NPY file, and of every
// large stored member of a zip (behind its NPY header, if it has one), and the end of a safetensors header. Of a file
// of another kind there are none; of a damaged one those that could be read.
func Bounds(r io.ReaderAt, size int64) []int64 {
	var head [8]byte
	if n, err := r.ReadAt(head[:min(8, max(0, size))], 0); err != nil && !errors.Is(err, io.EOF) || n < 8 {
		return nil
	}
	var out []int64
	add := func(from, bytes int64) {
		if bytes >= Grouped && from >= 0 && from+bytes <= size {
			out = append(out, from, from+bytes)
		}
	}
	switch {
	case string(head[:6]) == npyMagic:
		if info, _, begin, err := readNPYHeader(io.NewSectionReader(r, 0, size), size); err == nil {
			add(begin, info.Bytes())
		}
	case string(head[:4]) == "PK\x03\x04":
		archive, err := zip.NewReader(r, size)
		if err != nil || len(archive.File) > maxBounds/2 {
			return nil
		}
		for _, m := range archive.File {
			if m.Method != zip.Store || m.UncompressedSize64 < Grouped || m.UncompressedSize64 > uint64(size) {
				continue
			}
			from, err := m.DataOffset()
			if err != nil {
				continue
			}
			bytes := int64(m.UncompressedSize64)
			if _, _, begin, err := readNPYHeader(io.NewSectionReader(r, from, bytes), bytes); err == nil {
				from, bytes = from+begin, bytes-begin
			}
			add(from, bytes)
		}
	default:
		f, err := openSafetensors(r, size)
		if err != nil || len(f.Tensors) > maxBounds/2 {
			return nil
		}
		at := size
		for _, t := range slices.Backward(f.Tensors) { // they cover the data without gaps
			at -= t.Bytes()
			add(at, t.Bytes())
		}
		out = append(out, at)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
