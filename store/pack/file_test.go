package pack

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
)

// A file that was kept comes back, at any place and in any pieces; what cannot be read is
// told by its chunk.
func TestKeepAndRead(t *testing.T) {
	folder := t.TempDir()
	p := opened(t, folder, newKept())
	content := make([]byte, 2*chunk.MaxSize+12345)
	rand.NewChaCha8([32]byte{7}).Read(content)
	pieces, whole, err := p.Keep(ctx, bytes.NewReader(content))
	require.NoError(t, err)
	require.NoError(t, p.Flush(ctx))
	require.Len(t, pieces, 3)
	require.Equal(t, chunk.Sum(content), whole)
	r := p.NewReader(ctx, "a file", pieces)
	require.EqualValues(t, len(content), r.Size())
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	require.True(t, bytes.Equal(content, got))
	random := rand.New(rand.NewPCG(1, 1))
	for range 50 {
		at, n := random.IntN(len(content)), random.IntN(3*chunk.MaxSize/2)
		part := make([]byte, n)
		k, err := r.ReadAt(part, int64(at))
		if at+n > len(content) {
			require.ErrorIs(t, err, io.EOF)
		} else {
			require.NoError(t, err)
		}
		require.True(t, bytes.Equal(content[at:min(at+n, len(content))], part[:k]))
	}
	none, _, err := p.Keep(ctx, bytes.NewReader(nil))
	require.NoError(t, err)
	require.Empty(t, none)
	empty := p.NewReader(ctx, "nothing", nil)
	require.NoError(t, empty.Prime(5))
	_, err = empty.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF)

	packs, err := filepath.Glob(filepath.Join(folder, "pack", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	lost := p.NewReader(ctx, "a file", pieces)
	require.NoError(t, lost.Prime(0))
	for _, f := range packs {
		require.NoError(t, os.Truncate(f, 100))
	}
	_, err = lost.ReadAt(make([]byte, 10), chunk.MaxSize+1)
	var unreadable *Unreadable
	require.ErrorAs(t, err, &unreadable)
	require.Equal(t, pieces[1].Digest, unreadable.Digest)
	require.Equal(t, "a file", unreadable.File)
}
