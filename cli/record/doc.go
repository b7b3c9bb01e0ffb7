// Package record holds the commands that start programs: record, resume, branch, rerun, search, and what a program may
// call by itself.
package record

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
