package recorder

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// gate is a writer that takes nothing until it is opened, or refuses.
type gate struct {
	mutex   sync.Mutex
	open    chan struct{}
	refuses int
	got     bytes.Buffer
}

func (g *gate) Write(p []byte) (int, error) {
	<-g.open
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if g.refuses > 0 {
		g.refuses--
		n, _ := g.got.Write(p[:len(p)/2])
		return n, errors.New("no room")
	}
	return g.got.Write(p)
}

// What nobody takes waits up to a bound; beyond it the middle is left out, which is said in its place. Putting never
// waits.
func TestTakerLeavesOutTheMiddle(t *testing.T) {
	g := &gate{open: make(chan struct{}), refuses: 3}
	taker := newTaker(g, true)
	line := []byte(strings.Repeat("x", 1023) + "\n")
	total := 0
	for range 5 * waitLimit / len(line) {
		taker.put(line)
		total += len(line)
	}
	taker.put([]byte("the end\n"))
	total += len("the end\n")
	close(g.open)
	taker.end()
	<-taker.done
	text := g.got.String()
	at := strings.Index(text, "\n[kembrel: ")
	require.Positive(t, at)
	var left int
	_, err := fmt.Sscanf(text[at:], "\n[kembrel: %d bytes", &left)
	require.NoError(t, err)
	marker := text[at : at+1+strings.Index(text[at+1:], "\n")+1]
	require.Equal(t, total, len(text)-len(marker)+left,
		"every byte is there or counted, whatever was refused on the way")
	require.True(t, strings.HasSuffix(text, "the end\n"))
	require.LessOrEqual(t, len(text), 3*waitLimit+len(marker)+len(line))
}

// A terminal that is gone costs nothing but itself.
func TestTakerGivesUpATerminal(t *testing.T) {
	g := &gate{open: make(chan struct{}), refuses: 1}
	close(g.open)
	taker := newTaker(g, false)
	taker.put([]byte("lost with it"))
	taker.put([]byte(strings.Repeat("y", 3*waitLimit)))
	taker.end()
	<-taker.done
	require.LessOrEqual(t, g.got.Len(), len("lost with it"))
}

// What a pipe holds is taken also where no time was left to read it, and nothing is waited for although somebody still
// may write.
func TestWhatAPipeHoldsIsTaken(t *testing.T) {
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer write.Close()
	_, err = write.WriteString("the end\n")
	require.NoError(t, err)
	require.NoError(t, read.SetReadDeadline(time.Now().Add(-time.Second)))
	buffer := make([]byte, 4)
	_, err = read.Read(buffer)
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
	var got []byte
	takeRest(read, buffer, func(data []byte) { got = append(got, data...) })
	require.Equal(t, "the end\n", string(got))
}
