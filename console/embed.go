// Package console carries the built console inside the binary. It imports nothing of ours.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files; without a build they are empty but for a marker.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is named in the directive above
	}
	return files
}
