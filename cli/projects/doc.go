// Package projects holds the commands on projects.
package projects

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
