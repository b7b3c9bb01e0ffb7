// Command kembrel is the service, its command line and the recorder in one binary. It wires the parts and does nothing
// itself.
package main

import (
	"context"
	"os"

	"kembrel/cli"
)

// version is set by the Makefile.
var version = "dev"

func main() {
	root := cli.New(version, up, serve, backupCommand, restoreBackup, blobsCopy)
	os.Exit(cli.Execute(context.Background(), root))
}
