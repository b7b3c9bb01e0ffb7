// Package files has the commands on files that runs wrote and that are no checkpoints.
package files

import "kembrel/cli/term"

// Commands are those of this folder.
type Commands struct{ *term.App }
