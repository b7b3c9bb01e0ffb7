package chunk

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// weights are numbers as training leaves them: small, of both signs, around zero.
func weights(r *rand.Rand, kind string, count int) []byte {
	var out []byte
	for range count {
		v := r.NormFloat64() * 0.05
		switch kind {
		case "f64":
			out = binary.LittleEndian.AppendUint64(out, math.Float64bits(v))
		case "f32":
			out = binary.LittleEndian.AppendUint32(out, math.Float32bits(float32(v)))
		case "bf16":
			out = binary.LittleEndian.AppendUint16(out, uint16(math.Float32bits(float32(v))>>16))
		}
	}
	return out
}

func roundTrip(t *testing.T, data []byte) (stored int) {
	t.Helper()
	packed := Compress(nil, data)
	require.LessOrEqual(t, len(packed), len(data)+1)
	got, err := Decompress(packed, len(data))
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))
	return len(packed)
}

func TestCompressIsLossless(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	noise := make([]byte, MaxSize)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	require.Equal(t, MaxSize+1, roundTrip(t, noise), "noise stays raw")
	shares := map[string]float64{"f32": 0.86, "bf16": 0.70, "f64": 0.96}
	for kind, share := range shares {
		data := weights(r, kind, 300_000)
		data = data[:min(len(data), MaxSize)]
		require.Less(t, float64(roundTrip(t, data))/float64(len(data)), share, kind)
	}
	require.Less(t, roundTrip(t, make([]byte, MaxSize)), 2000, "zeros")
	text := bytes.Repeat([]byte(`{"name": "layer1.weight", "dtype": "F32"}, `), 3000)
	require.Less(t, roundTrip(t, text), len(text)/20)
	// Every size around the edges of blocks and numbers; not a number with payloads, infinities, subnormals, negative
	// zero.
	odd := []uint32{0x7fc00001, 0xffc12345, 0x7f800000, 0xff800000, 1, 0x80000001, 0x80000000, 0x007fffff}
	for _, size := range []int{1, 2, 3, 63, 64, 65, 127, 4096, 4*blockSize - 4, 4 * blockSize, 4*blockSize + 4,
		4*blockSize + 8, 1_000_003} {
		data := weights(r, "f32", size/4+1)[:size]
		for i := 0; i+4 <= size && i < 4*len(odd); i += 4 {
			binary.LittleEndian.PutUint32(data[i:], odd[i/4])
		}
		roundTrip(t, data)
		for i := range data { // of one value, and of few
			data[i] = byte(i % 3 / 2)
		}
		roundTrip(t, data)
	}
	_, err := Decompress([]byte{formRaw, 1}, MaxSize+1)
	require.ErrorIs(t, err, ErrStored)
	_, err = Decompress(nil, 5)
	require.ErrorIs(t, err, ErrStored)
}

// Whatever is stored, reading it takes bounded memory and does not panic; what was damaged does not pass for something
// of another size.
func FuzzDecompress(f *testing.F) {
	r := rand.New(rand.NewPCG(1, 1))
	for _, kind := range []string{"f32", "bf16"} {
		f.Add(Compress(nil, weights(r, kind, 5000)), 4*5000)
	}
	f.Add(Compress(nil, make([]byte, 1000)), 1000)
	f.Fuzz(func(t *testing.T, stored []byte, size int) {
		got, err := Decompress(stored, size)
		if err == nil && len(got) != size {
			t.Fatal("another size")
		}
	})
}

func FuzzCompress(f *testing.F) {
	f.Add([]byte("hydrophone"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) == 0 || len(data) > MaxSize {
			return
		}
		got, err := Decompress(Compress(nil, data), len(data))
		if err != nil || !bytes.Equal(got, data) {
			t.Fatal(err)
		}
	})
}

func BenchmarkCompress(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	for _, kind := range []string{"f32", "bf16"} {
		data := weights(r, kind, MaxSize/4)
		packed := Compress(nil, data)
		b.Run(kind, func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				Compress(packed[:0], data)
			}
			b.ReportMetric(float64(len(packed))/float64(len(data)), "share")
		})
		b.Run(kind+" out", func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				Decompress(packed, len(data))
			}
		})
	}
}
