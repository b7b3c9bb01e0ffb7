// Package subscriptions has the commands on who is told of events, and of what they were told.
package subscriptions

import "kembrel/cli/term"

// Commands are those of this folder.
type Commands struct{ *term.App }
