// Package compare holds the command that compares runs.
package compare

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
