// Package weights looks into files of tensors: what is in them, how they are distributed over the epochs, and how two
// of them differ.
package weights
