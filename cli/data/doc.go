// Package data has the commands on datasets: their snapshots, what is in them, what they say of themselves.
package data

import "kembrel/cli/term"

// Commands are those of this folder.
type Commands struct{ *term.App }
