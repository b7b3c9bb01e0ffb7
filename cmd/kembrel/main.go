// Command kembrel is the service, its command line and the recorder in one binary. It wires the parts and does nothing
// itself.
package main

import (
	"context"
	"os"
	"time"

	"kembrel/cli"
)

// version and goTime, when the Go binding was last changed (20060102150405, UTC), are set by the Makefile.
var version, goTime = "dev", ""

// bindingChanged is goTime, or zero where the build does not know.
func bindingChanged() time.Time {
	at, _ := time.Parse("20060102150405", goTime)
	return at
}

func main() {
	root := cli.New(version, start, serve, backupCommand, restoreBackup, blobsCopy, manual)
	os.Exit(cli.Execute(context.Background(), root))
}
