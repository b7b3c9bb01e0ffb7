// Package chunk cuts files into the pieces that are stored and sent, and names them by digest.
//
// A digest is BLAKE3-256 of the raw bytes, written with its algorithm: "b3:" and 64 hexadecimal digits. Files are cut
// at fixed 4 MiB here; cuts at tensor boundaries come with the checkpoint store. It knows no disk but io.Reader and
// imports nothing of ours.
package chunk
