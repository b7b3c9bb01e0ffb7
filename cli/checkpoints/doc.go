// Package checkpoints holds the commands on checkpoints, their tensors, keep rules and the chunk store.
package checkpoints

import "kembrel/cli/term"

// Commands makes the commands of this folder.
type Commands struct{ *term.App }
