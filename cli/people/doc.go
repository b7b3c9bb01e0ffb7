// Package people holds the commands on people: signing in, tokens, people, teams, roles, the audit.
package people

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
