package recorder

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// FolderVariable names the restored files to a program that evaluates them.
const FolderVariable = "KEMBREL_VERIFY_FOLDER"

// Evaluate runs a program that evaluates the model in a folder, and returns the last value that it reported of each
// curve. Nothing is sent anywhere: the program speaks to a recorder that only listens.
func Evaluate(ctx context.Context, o Options, folder string, command []string) (map[string]api.Float, int, error) {
	root, err := os.MkdirTemp("", "kembrel-")
	if err != nil {
		return nil, 0, err
	}
	defer os.RemoveAll(root)
	s, err := spool.Make(root, spool.Leg{LegKey: uuid.NewString(), Started: time.Now(),
		Socket: filepath.Join(root, "s")})
	if err != nil {
		return nil, 0, err
	}
	defer s.Close()
	n, err := newSession(s, func(format string, args ...any) { fmt.Fprintf(o.Err, "kembrel: "+format+"\n", args...) })
	if err != nil {
		return nil, 0, err
	}
	n.verify = folder
	r := &recording{options: o, spool: s, session: n}
	if r.socket, err = net.Listen("unix", s.Leg.Socket); err != nil {
		return nil, 0, fmt.Errorf("listen for the program: %w", err)
	}
	go r.accept()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, o.Out, o.Err
	cmd.Env = append(os.Environ(), protocol.Variable+"="+s.Leg.Socket, FolderVariable+"="+folder)
	err = cmd.Run()
	r.hangUp()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return nil, 0, fmt.Errorf("cannot start %q: %w", command[0], err)
	}
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return n.figures, cmd.ProcessState.ExitCode(), nil
}
