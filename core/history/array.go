package history

import (
	"bytes"
	"io"
)

// array writes JSON Lines as one JSON array. What is written to it ends with a line.
type array struct {
	to    io.Writer
	begun bool
}

// Write takes whole lines.
func (a *array) Write(lines []byte) (int, error) {
	out := make([]byte, 0, len(lines)+16)
	for line := range bytes.Lines(lines) {
		between := ",\n"
		if !a.begun {
			between, a.begun = "[\n", true
		}
		out = append(append(out, between...), bytes.TrimSuffix(line, []byte{'\n'})...)
	}
	_, err := a.to.Write(out)
	return len(lines), err
}

// Close ends the array.
func (a *array) Close() error {
	end := "\n]\n"
	if !a.begun {
		end = "[]\n"
	}
	_, err := io.WriteString(a.to, end)
	return err
}
