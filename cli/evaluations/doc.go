// Package evaluations has the commands that run a program on a restored checkpoint, and list what came of it.
package evaluations

import "kembrel/cli/term"

// Commands are those of this folder.
type Commands struct{ *term.App }
