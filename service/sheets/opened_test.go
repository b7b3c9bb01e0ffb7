package sheets

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/sheet"
)

// One large sheet is kept beside the small ones, as opening it takes seconds.
func TestOneLargeSheetIsKept(t *testing.T) {
	o := newOpened()
	of := func(scores int) *whole { return &whole{Sheet: &sheet.Sheet{Scores: make([]float64, scores)}} }
	small, large, larger := of(100), of(mostOpen/16+1), of(mostOpen/16+2)
	o.put(1, small)
	o.put(2, large)
	for id, want := range map[int64]*whole{1: small, 2: large} {
		got, ok := o.get(id)
		require.True(t, ok)
		require.Same(t, want, got)
	}
	o.put(3, larger)
	_, ok := o.get(2)
	require.False(t, ok)
	got, ok := o.get(3)
	require.True(t, ok)
	require.Same(t, larger, got)
	require.Equal(t, small.Bytes(), o.size)
}

type text struct{ *strings.Reader }

// Whoever has left is read for no further.
func TestReadingEndsWithWhoAsks(t *testing.T) {
	ctx, leave := context.WithCancel(t.Context())
	f := &followed{text{strings.NewReader(strings.Repeat("{}\n", 100))}, ctx, func(float64) {}}
	_, err := f.ReadAt(make([]byte, 10), 0)
	require.NoError(t, err)
	leave()
	_, err = f.ReadAt(make([]byte, 10), 10)
	require.ErrorIs(t, err, context.Canceled)
}
