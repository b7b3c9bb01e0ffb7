// Package host is where operating systems differ: locks, whose a folder is, room on a disk, processes and terminals.
//
// Nothing else in Kembrel asks the system for these, and nothing here knows what they are for. It imports nothing of
// ours. The service runs on Linux and macOS; what the command line and the recorder need is there on Windows too.
package host

import "errors"

var (
	// ErrHeld says that another process holds what was asked for.
	ErrHeld = errors.New("another process holds it")
	// ErrNotOurs says that a folder is somebody else's, or that others may write to it.
	ErrNotOurs = errors.New("it belongs to somebody else, or others may write to it")
)

// User is as whom a program is started, by number.
type User struct{ UID, GID int }
