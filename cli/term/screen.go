package term

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf16"

	"golang.org/x/term"

	"kembrel/core/plain"
)

// Confirm asks; without a terminal it wants --yes.
func (a *App) Confirm(question string) (bool, error) {
	in, ok := a.In.(*os.File)
	if !ok || !IsTerminal(in) {
		return false, Usage("there is nobody to ask here; look at what --dry-run shows and say --yes")
	}
	fmt.Fprintf(a.Err, "%s [y/N] ", question)
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	return strings.EqualFold(strings.TrimSpace(line), "y"), nil
}

// What the command line prints is often what somebody else wrote. App's Out and Err make all of it harmless; only what
// is drawn here with commands for the terminal, files that go to the output, and JSON, which escapes for itself, go
// around them by raw.

// Raw is the writer behind one that makes what is written harmless.
func Raw(w io.Writer) io.Writer {
	if p, ok := w.(*plain.Writer); ok {
		return p.To
	}
	return w
}

// IsTerminal reports whether something that is read or written is a terminal.
func IsTerminal(w any) bool {
	if out, ok := w.(io.Writer); ok {
		w = Raw(out)
	}
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Width is that of the terminal, or 100 columns.
func Width(w io.Writer) int {
	if f, ok := Raw(w).(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 20 {
			return n
		}
	}
	return 100
}

// Printable is text of somebody else for one line.
func Printable(text string) string { return plain.Line(text) }

// WriteJSON writes JSON in which nothing steers a terminal: what is not printable is escaped.
func WriteJSON(w io.Writer, v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	var out bytes.Buffer
	for _, r := range b.String() {
		switch {
		case r < 0x7f || plain.Line(string(r)) == string(r):
			out.WriteRune(r)
		case r >= 0x10000:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
	}
	_, err := Raw(w).Write(out.Bytes())
	return err
}
