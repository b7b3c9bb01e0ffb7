// Package python holds the Python binding's files, for the wheel that the service hands out. It imports nothing of
// ours.
package python

import "embed"

// Files are the binding's modules, below kembrel/.
//
//go:embed kembrel/*.py
var Files embed.FS
