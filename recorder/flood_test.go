package recorder

import (
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"kembrel/recorder/protocol"
)

// What a message of readings costs the recorder: the training program's call waits for no more than that, however often
// it is called.
func BenchmarkReadings(b *testing.B) {
	line := func(i int) []byte {
		return fmt.Appendf(nil,
			`{"kind":"readings","id":%d,"step":%d,"epoch":3.0,"time":1790000000000,"values":{"loss.train":0.25,"loss.val":0.5}}`+"\n", i, i)
	}
	b.Run("parsed", func(b *testing.B) {
		var p protocol.Parser
		now, text := time.Now(), line(7)
		for b.Loop() {
			if _, err := p.Parse(text, now); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("kept", func(b *testing.B) {
		_, n := aSession(b)
		program, ours := net.Pipe()
		go io.Copy(io.Discard, program)
		out := newOutbox(ours)
		i, now := 0, time.Now()
		var p protocol.Parser
		for b.Loop() {
			i++
			m, err := p.Parse(line(i), now)
			if err == nil {
				err = n.handle(m, out)
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	})
}
