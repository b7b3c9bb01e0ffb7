package recorder

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

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

// What nobody takes waits up to a bound; beyond it the middle is left out, which is said in its place. Putting never waits.
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
	require.Equal(t, total, len(text)-len(marker)+left, "every byte is there or counted, whatever was refused on the way")
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
