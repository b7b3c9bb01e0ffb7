// Package curves holds the command that prints, draws and writes curves.
package curves

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
