package chunk

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

// Pieces cut by content have the sizes that were promised, come out the same however the bytes are read, and stay the
// same behind an insertion.
func TestContentBounds(t *testing.T) {
	data := make([]byte, 64<<20)
	rand.NewChaCha8([32]byte{3}).Read(data)
	bounds, err := ContentBounds(bytes.NewReader(data))
	require.NoError(t, err)
	again, err := ContentBounds(iotest.HalfReader(bytes.NewReader(data)))
	require.NoError(t, err)
	require.Equal(t, bounds, again)
	last := int64(0)
	for _, b := range bounds {
		require.GreaterOrEqual(t, b-last, int64(leastCut))
		require.LessOrEqual(t, b-last, int64(MaxSize))
		last = b
	}
	mean := float64(last) / float64(len(bounds))
	require.InDelta(t, usualCut, mean, 0.4*usualCut)

	cut := func(data []byte) map[Digest]bool {
		bounds, err := ContentBounds(bytes.NewReader(data))
		require.NoError(t, err)
		pieces, _, _, err := Cut(bytes.NewReader(data), bounds)
		require.NoError(t, err)
		out := map[Digest]bool{}
		for _, p := range pieces {
			out[p.Digest] = true
		}
		return out
	}
	before, after := cut(data), cut(slices.Insert(slices.Clone(data), 20<<20+7, []byte("a line more\n")...))
	same := 0
	for d := range after {
		if before[d] {
			same++
		}
	}
	require.GreaterOrEqual(t, same, len(before)-3, "only the pieces around it differ")
	zeros, err := ContentBounds(bytes.NewReader(make([]byte, 10<<20)))
	require.NoError(t, err)
	require.Equal(t, []int64{MaxSize, 2 * MaxSize}, zeros, "what never gives a cut is cut at the greatest size")
	_, err = ContentBounds(iotest.ErrReader(bytes.ErrTooLarge))
	require.ErrorIs(t, err, bytes.ErrTooLarge)
}
