package blob

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A store that is watched is the store that it was, what only some can included; what was asked of it is heard.
func TestWatched(t *testing.T) {
	local, err := NewLocal(t.TempDir())
	require.NoError(t, err)
	heard := map[string]int{}
	failed := 0
	w := &Watched{Store: &Watched{Store: local, Heard: func(string, time.Duration, error) {}},
		Heard: func(what string, took time.Duration, err error) {
			require.GreaterOrEqual(t, took, time.Duration(0))
			heard[what]++
			if err != nil {
				failed++
			}
		}}
	found, is := As[*Local](w)
	require.True(t, is)
	require.Same(t, local, found)
	lender, is := As[interface{ Lend(bool) }](w)
	require.True(t, is)
	require.Same(t, local, lender)
	_, is = As[*S3](w)
	require.False(t, is)

	require.NoError(t, w.Put(t.Context(), "packs/a", strings.NewReader("tug")))
	content, err := w.Get(t.Context(), "packs/a", 0, 0)
	require.NoError(t, err)
	content.Close()
	_, err = w.Get(t.Context(), "packs/none", 0, 0)
	require.ErrorIs(t, err, ErrNone)
	open, err := w.Append("packs/b")
	require.NoError(t, err)
	_, err = open.WriteAt([]byte("ferry"), 0)
	require.NoError(t, err)
	require.NoError(t, open.Sync(t.Context()))
	require.NoError(t, open.Close())
	require.NoError(t, w.Delete(t.Context(), "packs/a"))
	require.Zero(t, failed, "that there is none is an answer")
	require.Error(t, w.Put(t.Context(), "packs/c", failing{}))
	require.Equal(t, 1, failed)
	require.Equal(t, map[string]int{"put": 2, "get": 2, "sync": 1, "delete": 1}, heard)
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("the cable is cut") }
