// Package tensor reads and writes arrays in open file formats: safetensors here so far.
//
// safetensors: 8 bytes little endian with the length of a JSON header, the header
// {"name": {"dtype": "F32", "shape": [2, 3], "data_offsets": [0, 24]}, ...}, then the data without gaps.
// It imports nothing of ours and does no I/O but io.Reader and io.Writer.
package tensor
