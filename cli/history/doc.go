// Package history holds export and import.
package history

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
