package recorder

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"
)

// The program writes its output into files of the spool, not into pipes: so it lives on when the recorder is killed.

func outputFile(folder, stream string) (*os.File, error) {
	return os.OpenFile(filepath.Join(folder, stream), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
}

// copyOutput shows the program's output as it is written, until ended, then the rest.
func copyOutput(folder string, out, errs io.Writer, ended <-chan struct{}) {
	type copying struct {
		from *os.File
		to   io.Writer
	}
	var streams []copying
	for name, to := range map[string]io.Writer{"stdout": out, "stderr": errs} {
		if f, err := os.Open(filepath.Join(folder, name)); err == nil {
			defer f.Close()
			streams = append(streams, copying{f, to})
		}
	}
	for last := false; ; {
		for _, s := range streams {
			io.Copy(s.to, s.from)
		}
		if last {
			return
		}
		select {
		case <-ended:
			last = true
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Limits of the last lines of output that go with a leg's end.
const (
	tailBytes = 8 << 10
	tailLines = 40
)

// tail is the last lines of the program's error output, or of its output where there is none.
func tail(folder string) string {
	for _, name := range []string{"stderr", "stdout"} {
		f, err := os.Open(filepath.Join(folder, name))
		if err != nil {
			continue
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil || info.Size() == 0 {
			continue
		}
		from := max(0, info.Size()-tailBytes)
		data := make([]byte, info.Size()-from)
		if _, err := f.ReadAt(data, from); err != nil && !errors.Is(err, io.EOF) {
			continue
		}
		for len(data) > 0 && !utf8.RuneStart(data[0]) {
			data = data[1:]
		}
		lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
		return strings.Join(lines[max(0, len(lines)-tailLines):], "\n")
	}
	return ""
}

func isTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }
