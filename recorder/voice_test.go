package recorder

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Nothing waits for whoever reads what the recorder says; what did not fit is counted.
func TestTheVoiceHoldsUpNobody(t *testing.T) {
	read, write := io.Pipe() // a write waits until it is read
	v := newVoice(write)
	for i := range mostLines + 500 {
		v.say(fmt.Sprintf("line %d", i))
	}
	v.wait(time.Millisecond)
	said := make(chan string, 1)
	go func() {
		all, _ := io.ReadAll(read)
		said <- string(all)
	}()
	v.wait(time.Minute)
	write.Close()
	text := <-said
	require.Contains(t, text, "kembrel: line 0\n")
	require.Regexp(t, `kembrel: (499|500) more messages were left out\n`, text)
	require.Less(t, strings.Count(text, "\n"), mostLines+5)
}
