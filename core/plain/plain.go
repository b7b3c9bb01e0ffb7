// Package plain makes text that somebody else wrote harmless where it is shown: titles, notes, output, commands, names.
// What is not printable is written so that it is seen and does nothing:
//
//	plain.Line("lr \x1b[31mred\r")  gives  lr \x1b[31mred\r   (as these very letters)
//
// It imports nothing of ours.
package plain

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Line is text for one line: everything that is not printable is made visible, ends of lines and tabs too.
func Line(s string) string { return visible(s, false) }

// Text is text of several lines: ends of lines and tabs stay.
func Text(s string) string { return visible(s, true) }

// harmless reports whether a rune may be shown as it is. Marks of direction and joiners of width nothing are not: they
// hide or reorder what is beside them (Unicode TR 36, section 2.1).
func harmless(r rune, lines bool) bool {
	switch {
	case r == '\n' || r == '\t':
		return lines
	case r == utf8.RuneError, unicode.Is(unicode.Cf, r), unicode.Is(unicode.Zl, r), unicode.Is(unicode.Zp, r),
		unicode.Is(unicode.Co, r):
		return false
	}
	return !unicode.IsControl(r)
}

func visible(s string, lines bool) string {
	clean := true
	for _, r := range s {
		if !harmless(r, lines) {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		size := utf8.RuneLen(r)
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(s[i:], "\uFFFD"):
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == utf8.RuneError || harmless(r, lines):
			b.WriteString(s[i : i+size])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// Cell is a text cell of a table that spreadsheets may open: one that would be taken for a formula begins with an
// apostrophe, as they ask for (OWASP, CSV injection). Numbers are no text: they are written as they are.
func Cell(s string) string {
	s = Text(s)
	if s != "" && strings.ContainsRune("=+-@\t", rune(s[0])) {
		return "'" + s
	}
	return s
}

// XML is text for an XML document: characters that XML 1.0 has no place for, not even escaped, become U+FFFD. Escaping
// is left to the writer.
func XML(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || r >= 0x20 && r != 0xFFFE && r != 0xFFFF && !(r >= 0x7f && r < 0xa0) {
			return r
		}
		return utf8.RuneError
	}, strings.ToValidUTF8(s, "\uFFFD"))
}

// Writer makes everything written to it harmless text of several lines. A character cut in two by two writes is put
// together.
type Writer struct {
	To   io.Writer
	half []byte
}

// Write implements io.Writer.
func (w *Writer) Write(p []byte) (int, error) {
	data := append(w.half, p...)
	n := len(data)
	for i := 1; i < utf8.UTFMax && i <= n; i++ {
		if tail := data[n-i:]; utf8.RuneStart(tail[0]) {
			if !utf8.FullRune(tail) {
				n -= i
			}
			break
		}
	}
	text := Text(string(data[:n]))
	w.half = append([]byte(nil), data[n:]...)
	if _, err := io.WriteString(w.To, text); err != nil {
		return 0, err
	}
	return len(p), nil
}
