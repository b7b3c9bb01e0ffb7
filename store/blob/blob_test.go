package blob

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestLocal(t *testing.T) {
	folder := t.TempDir()
	conformance(t, func() Store {
		l, err := NewLocal(folder)
		require.NoError(t, err)
		return l
	})
	left, err := os.ReadDir(folder + "/" + incomingFolder)
	require.NoError(t, err)
	require.Empty(t, left, "failed puts leave nothing behind")
}

// broken fails after some bytes.
type broken struct{ io.Reader }

func (b broken) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if err != nil {
		err = errors.New("cut off")
	}
	return n, err
}

// conformance is what every Store must do; open opens the same store anew.
func conformance(t *testing.T, open func() Store) {
	ctx := context.Background()
	s := open()
	get := func(name string, offset int64, size ...int64) string {
		r, err := s.Get(ctx, name, offset, append(size, 0)[0])
		require.NoError(t, err)
		defer r.Close()
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		return string(content)
	}
	_, err := s.Get(ctx, "chunk/ab/cd", 0, 0)
	require.ErrorIs(t, err, ErrNone)
	_, err = s.Size(ctx, "chunk/ab/cd")
	require.ErrorIs(t, err, ErrNone)
	require.NoError(t, s.Delete(ctx, "chunk/ab/cd"))

	require.NoError(t, s.Put(ctx, "chunk/ab/cd", strings.NewReader("hydrophone")))
	s = open()
	require.Equal(t, "hydrophone", get("chunk/ab/cd", 0))
	require.Equal(t, "phone", get("chunk/ab/cd", 5))
	require.Equal(t, "ph", get("chunk/ab/cd", 5, 2))
	require.Equal(t, "ne", get("chunk/ab/cd", 8, 20), "no more than there is")
	size, err := s.Size(ctx, "chunk/ab/cd")
	require.NoError(t, err)
	require.EqualValues(t, 10, size)

	require.ErrorContains(t, s.Put(ctx, "chunk/ab/cd", broken{strings.NewReader("half")}), "cut off")
	require.Equal(t, "hydrophone", get("chunk/ab/cd", 0), "a put that fails changes nothing")
	require.Error(t, s.Put(ctx, "chunk/ab/ef", broken{strings.NewReader("half")}))
	_, err = s.Size(ctx, "chunk/ab/ef")
	require.ErrorIs(t, err, ErrNone)

	require.NoError(t, s.Put(ctx, "chunk/ab/cd", strings.NewReader("hydrophone")))
	require.NoError(t, s.Delete(ctx, "chunk/ab/cd"))
	_, err = s.Get(ctx, "chunk/ab/cd", 0, 0)
	require.ErrorIs(t, err, ErrNone)

	a, err := s.Append("pack/one")
	require.NoError(t, err)
	_, err = a.WriteAt([]byte("phone"), 5)
	require.NoError(t, err)
	_, err = a.WriteAt([]byte("hydro"), 0)
	require.NoError(t, err)
	require.NoError(t, a.Sync(ctx))
	require.Equal(t, "rop", get("pack/one", 3, 3), "readable once it is safe")
	_, err = a.WriteAt([]byte("s"), 10)
	require.NoError(t, err)
	require.NoError(t, a.Sync(ctx))
	require.NoError(t, a.Close())
	s = open()
	require.Equal(t, "hydrophones", get("pack/one", 0))
	listed := map[string]int64{}
	require.NoError(t, s.List(ctx, "pack/", func(name string, size int64) error { listed[name] = size; return nil }))
	require.Equal(t, map[string]int64{"pack/one": 11}, listed)

	for _, bad := range []string{"", "/a", "../a", "a/../b", "a//b", "A", "a.b", incomingFolder + "/x", "a/"} {
		require.Error(t, s.Put(ctx, bad, strings.NewReader("x")), "%q", bad)
		_, err := s.Get(ctx, bad, 0, 0)
		require.Error(t, err, "%q", bad)
	}
}
