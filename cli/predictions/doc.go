// Package predictions has the commands on prediction sheets: what a model gets wrong, its examples, where two disagree.
package predictions

import "kembrel/cli/term"

// Commands are those of this folder.
type Commands struct{ *term.App }
