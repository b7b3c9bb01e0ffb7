// Package runs holds the commands on runs: runs, show, follow, verdict, stop-rule, change, archive, delete.
package runs

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
