// Command kembrel is the service, its command line and the recorder in one binary. It wires the parts and does nothing itself.
package main

import (
	"context"
	"os"

	"kembrel/cli"
)

// version is set by the Makefile.
var version = "dev"

func main() {
	os.Exit(cli.Execute(context.Background(), cli.New(version, up, serve)))
}
