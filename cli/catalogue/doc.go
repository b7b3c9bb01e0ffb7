// Package catalogue has the commands on the catalogue: models, editions, standings, sign-offs, checks, uses.
package catalogue

import "kembrel/cli/term"

// Commands are those of this folder.
type Commands struct{ *term.App }
