package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"unicode/utf16"

	"golang.org/x/term"

	"kembrel/core/plain"
)

// What the command line prints is often what somebody else wrote. App's Out and Err make all of it harmless; only what is drawn here with
// commands for the terminal, files that go to the output, and JSON, which escapes for itself, go around them by raw.

// raw is the writer behind one that makes what is written harmless.
func raw(w io.Writer) io.Writer {
	if p, ok := w.(*plain.Writer); ok {
		return p.To
	}
	return w
}

func isTerminal(w any) bool {
	if out, ok := w.(io.Writer); ok {
		w = raw(out)
	}
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// width is that of the terminal, or 100 columns.
func width(w io.Writer) int {
	if f, ok := raw(w).(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 20 {
			return n
		}
	}
	return 100
}

// printable is text of somebody else for one line.
func printable(text string) string { return plain.Line(text) }

// writeJSON writes JSON in which nothing steers a terminal: what is not printable is escaped.
func writeJSON(w io.Writer, v any) error {
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
	_, err := raw(w).Write(out.Bytes())
	return err
}
