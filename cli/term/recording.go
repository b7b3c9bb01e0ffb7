package term

import (
	"kembrel/recorder"
	"kembrel/recorder/spool"
)

// RecorderOptions are those of every recorder that a command starts.
func (a *App) RecorderOptions() recorder.Options {
	return recorder.Options{Service: a.Settings.Get("url"), Roots: SpoolRoots(), Connect: Connect, Out: Raw(a.Out),
		Err: Raw(a.Err)}
}

// SpoolRoots are where this user's spools may be.
func SpoolRoots() []string {
	own, _ := spool.Folder() // without a home there are the others
	return spool.Roots(own)
}
