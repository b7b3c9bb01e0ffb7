// Command withdatabase runs a command with a PostgreSQL server of its own, whose address it finds in
// KEMBREL_TEST_DATABASE.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"

	"kembrel/store/cluster"
	"kembrel/test/testdb"
)

func main() {
	code, err := run(os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, "withdatabase:", err)
		os.Exit(1)
	}
	os.Exit(code)
}

func run(command []string) (int, error) {
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-test-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o711); err != nil {
		return 0, err
	}
	db, err := cluster.Start(context.Background(), folder+"/postgres", slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return 0, err
	}
	defer db.Stop()
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Env = append(os.Environ(), testdb.Variable+"="+db.Admin)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	err = cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode(), nil
	}
	return 0, err
}
