package chunk

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The digest of no bytes, from the BLAKE3 paper's test vectors.
func TestDigestGoldenVector(t *testing.T) {
	require.Equal(t, "b3:af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262", Sum(nil).String())
}

func TestParseDigest(t *testing.T) {
	d := Sum([]byte("tug"))
	got, err := ParseDigest(d.String())
	require.NoError(t, err)
	require.Equal(t, d, got)
	for _, bad := range []string{"", "b3:", d.String()[3:], "b3:" + strings.Repeat("g", 64),
		strings.ToUpper(d.String()), d.String() + "0"} {
		_, err := ParseDigest(bad)
		require.Error(t, err, bad)
	}
}

func TestCutCoversTheFile(t *testing.T) {
	for _, size := range []int{0, 1, MaxSize - 1, MaxSize, MaxSize + 1, 2*MaxSize + 17} {
		data := make([]byte, size)
		r := rand.NewChaCha8([32]byte{byte(size)})
		r.Read(data)
		pieces, total, whole, err := Cut(bytes.NewReader(data), nil)
		require.NoError(t, err)
		require.EqualValues(t, size, total)
		require.Equal(t, Sum(data), whole)
		at := 0
		for _, p := range pieces {
			require.Equal(t, Sum(data[at:at+int(p.Size)]), p.Digest)
			at += int(p.Size)
		}
		require.Equal(t, size, at)
		unpacked, err := Unpack(Pack(pieces))
		require.NoError(t, err)
		require.Equal(t, len(pieces), len(unpacked))
		for i := range pieces {
			require.Equal(t, pieces[i], unpacked[i])
		}
	}
	data := make([]byte, 3*MaxSize)
	pieces, _, _, err := Cut(bytes.NewReader(data), []int64{0, 100, 100 + MaxSize + 7, 3 * MaxSize, 4 * MaxSize})
	require.NoError(t, err)
	var sizes []int64
	for _, p := range pieces {
		sizes = append(sizes, p.Size)
	}
	require.Equal(t, []int64{100, MaxSize, 7, MaxSize, MaxSize - 107}, sizes)
	_, err = Unpack(make([]byte, 35))
	require.Error(t, err)
}
