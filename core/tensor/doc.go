// Package tensor reads and writes arrays in open file formats, describes them, and matches and compares two sets of
// them.
//
//	f, err := tensor.Open(file, size)       safetensors, NPY or NPZ, by its first bytes
//	for i, t := range f.Tensors {           name, dtype, shape
//		stats, err := f.Statistics(i)       mean, deviation, extremes, NaN count, histogram
//	}
//
// Dtypes have the names of safetensors: F64 F32 F16 BF16 F8_E4M3 F8_E5M2 I64 I32 I16 I8 U64 U32 U16 U8 BOOL, and C64
// and C128 (complex) from NPY. Data are handed out row-major and little endian, whatever the file's order is. Every
// reader takes hostile input: sizes are checked against the file before memory is taken.
//
// It imports core/chunk for digests and does no I/O but io.Reader, io.ReaderAt and io.Writer.
package tensor
