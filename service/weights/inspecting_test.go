package weights

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// seeks counts how often a file was gone to a place in.
type seeks struct {
	*bytes.Reader
	count int
}

func (s *seeks) Seek(offset int64, whence int) (int64, error) {
	s.count++
	return s.Reader.Seek(offset, whence)
}

// What is read ahead is what would have been read, at any place and of any length; small pieces side by side cost few
// looks into the store.
func TestReadsAhead(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	content := make([]byte, 3*readAhead+777)
	for i := range content {
		content[i] = byte(r.Uint32())
	}
	from := &seeks{Reader: bytes.NewReader(content)}
	ours, plain := &readerAt{ctx: t.Context(), from: from}, bytes.NewReader(content)
	for range 3000 {
		at, size := r.Int64N(int64(len(content))+10), r.IntN(5000)
		if r.IntN(50) == 0 {
			size = r.IntN(2 * readAhead)
		}
		want, got := make([]byte, size), make([]byte, size)
		n, err := plain.ReadAt(want, at)
		m, found := ours.ReadAt(got, at)
		require.Equal(t, n, m, "%d at %d", size, at)
		require.Equal(t, want, got)
		require.Equal(t, n < size && err == io.EOF, found == io.EOF)
	}
	from.count = 0
	small := make([]byte, 256)
	for at := 0; at+256 <= len(content); at += 256 {
		_, err := ours.ReadAt(small, int64(at))
		require.NoError(t, err)
	}
	require.LessOrEqual(t, from.count, 5)
}

// One person's files take one worker, so that another's come between.
func TestPeopleTakeTurns(t *testing.T) {
	w := &Inspect{}
	require.True(t, w.begin(7))
	require.False(t, w.begin(7))
	require.True(t, w.begin(8))
	require.True(t, w.begin(0), "of whom nobody knows who saved it")
	w.end(7)
	require.True(t, w.begin(7))
}
