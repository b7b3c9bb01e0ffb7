package tensor

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"math"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func written(t testing.TB, tensors ...Tensor) []byte {
	var b bytes.Buffer
	require.NoError(t, WriteSafetensors(&b, tensors))
	return b.Bytes()
}

func TestRoundTrip(t *testing.T) {
	in := []Tensor{
		Float64("layer1.weight", []int64{2, 2}, []float64{1, math.NaN(), math.Copysign(0, -1), math.Inf(1)}),
		{Info{Name: "steps", Dtype: "I64", Shape: []int64{}}, make([]byte, 8)},
		{Info{Name: "empty", Dtype: "F32", Shape: []int64{0, 7}}, []byte{}},
	}
	content := written(t, in...)
	require.Equal(t, content, written(t, in[2], in[0], in[1]), "the order does not matter")
	out, err := ReadAll(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	byName := map[string]Tensor{}
	for _, x := range out {
		byName[x.Name] = x
	}
	for _, x := range in {
		require.Equal(t, x, byName[x.Name])
	}
	values, err := byName["layer1.weight"].Float64s()
	require.NoError(t, err)
	require.True(t, math.Signbit(values[2]))
	_, err = byName["steps"].Float64s()
	require.Error(t, err)
}

func file(header string, data int) []byte {
	out := binary.LittleEndian.AppendUint64(nil, uint64(len(header)))
	return append(append(out, header...), make([]byte, data)...)
}

func npyOf(header string, data int) []byte {
	out := append([]byte(npyMagic), 1, 0)
	out = append(binary.LittleEndian.AppendUint16(out, uint16(len(header))), header...)
	return append(out, make([]byte, data)...)
}

// A bit that was turned in a member of a zip is noticed, wherever it is and however the member is stored.
func TestChecksumsOfMembers(t *testing.T) {
	values := make([]float64, 5000)
	for i := range values {
		values[i] = math.Sqrt(float64(i))
	}
	var stored, packed bytes.Buffer
	require.NoError(t, WriteNPZ(&stored, []Tensor{Float64("a", []int64{5000}, values)}))
	var npy bytes.Buffer
	require.NoError(t, WriteNPY(&npy, Float64("a", []int64{5000}, values)))
	z := zip.NewWriter(&packed)
	w, err := z.Create("a.npy")
	require.NoError(t, err)
	_, err = w.Write(npy.Bytes())
	require.NoError(t, err)
	require.NoError(t, z.Close())
	for _, whole := range [][]byte{stored.Bytes(), packed.Bytes()} {
		_, err := ReadAll(bytes.NewReader(whole), int64(len(whole)))
		require.NoError(t, err)
		for _, at := range []int{400, len(whole) / 2, len(whole) - 400} {
			turned := bytes.Clone(whole)
			turned[at] ^= 4
			_, err := ReadAll(bytes.NewReader(turned), int64(len(turned)))
			require.ErrorIs(t, err, ErrFormat, "byte %d of %d", at, len(whole))
		}
	}
}

func TestHostileFilesAreRefused(t *testing.T) {
	for name, content := range map[string][]byte{
		"empty":                {},
		"huge header":          {0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x7f},
		"header too long":      file(`{}`, 0)[:9],
		"no JSON":              file(`{`, 0),
		"unknown dtype":        file(`{"a":{"dtype":"X9","shape":[1],"data_offsets":[0,8]}}`, 8),
		"shape too large":      file(`{"a":{"dtype":"F32","shape":[9223372036854775807,9],"data_offsets":[0,8]}}`, 8),
		"negative shape":       file(`{"a":{"dtype":"F32","shape":[-2],"data_offsets":[0,8]}}`, 8),
		"size differs":         file(`{"a":{"dtype":"F32","shape":[3],"data_offsets":[0,8]}}`, 8),
		"beyond the end":       file(`{"a":{"dtype":"F32","shape":[2],"data_offsets":[0,8]}}`, 4),
		"gap":                  file(`{"a":{"dtype":"F32","shape":[1],"data_offsets":[4,8]}}`, 8),
		"overlap":              file(`{"a":{"dtype":"F32","shape":[2],"data_offsets":[0,8]},"b":{"dtype":"F32","shape":[1],"data_offsets":[4,8]}}`, 8),
		"unclaimed bytes":      file(`{"a":{"dtype":"F32","shape":[1],"data_offsets":[0,4]}}`, 8),
		"offsets reversed":     file(`{"a":{"dtype":"F32","shape":[0],"data_offsets":[0,-4]}}`, 0),
		"no object":            file(`null`, 0),
		"a list":               file(`[]`, 0),
		"a key twice":          file(`{"a":{"dtype":"U8","shape":[1],"data_offsets":[0,1]},"a":{"dtype":"U8","shape":[1],"data_offsets":[1,2]}}`, 2),
		"a key twice, escaped": file(`{"a":{"dtype":"U8","shape":[1],"data_offsets":[0,1]},"\u0061":{"dtype":"U8","shape":[1],"data_offsets":[1,2]}}`, 2),
		"a field twice":        file(`{"a":{"dtype":"U8","dtype":"I8","shape":[1],"data_offsets":[0,1]}}`, 1),
		"three offsets":        file(`{"a":{"dtype":"U8","shape":[1],"data_offsets":[0,1,1]}}`, 1),
		"one offset":           file(`{"a":{"dtype":"U8","shape":[0],"data_offsets":[0]}}`, 0),
		"no offsets":           file(`{"a":{"dtype":"U8","shape":[0]}}`, 0),
		"no shape":             file(`{"a":{"dtype":"U8","data_offsets":[0,1]}}`, 1),
		"null in a shape":      file(`{"a":{"dtype":"U8","shape":[null],"data_offsets":[0,0]}}`, 0),
		"an object behind it":  file(`{} {}`, 0),
		"a null shape":         file(`{"a":{"dtype":"U8","shape":null,"data_offsets":[0,1]}}`, 1),
		"other letters":        file(`{"a":{"Dtype":"U8","SHAPE":[1],"data_offsets":[0,1]}}`, 1),
		"no UTF-8":             file("{\"a\xff\":{\"dtype\":\"U8\",\"shape\":[1],\"data_offsets\":[0,1]}}", 1),
		"a second object":      file(`{"a":{"dtype":"U8","shape":[1],"data_offsets":[0,1]}} {}`, 1),
		"odd metadata":         file(`{"a":{"dtype":"U8","shape":[1],"data_offsets":[0,1]},"__metadata__":{"x":1}}`, 1),
		"metadata null":        file(`{"a":{"dtype":"U8","shape":[1],"data_offsets":[0,1]},"__metadata__":null}`, 1),
		"65 dimensions":        file(`{"a":{"dtype":"U8","shape":[`+strings.Repeat("1,", 64)+`1],"data_offsets":[0,1]}}`, 1),
		"npy: descr twice":     npyOf(`{'descr': '|u1', 'descr': '|i1', 'shape': (1,), }`, 1),
		"npy: no order":        npyOf(`{'descr': '|u1', 'shape': (1,), }`, 1),
	} {
		_, err := ReadAll(bytes.NewReader(content), int64(len(content)))
		require.ErrorIs(t, err, ErrFormat, name)
	}
	_, err := Open(bytes.NewReader(file(`{"deep.bias":{"dtype":"F4","shape":[2],"data_offsets":[0,1]}}`, 1)), 1<<20)
	require.ErrorContains(t, err, `tensor "deep.bias" has the dtype "F4", which is not known here`)
	require.Error(t, WriteSafetensors(&bytes.Buffer{}, []Tensor{{Info{Name: "a", Dtype: "F32", Shape: []int64{3}},
		make([]byte, 8)}}))
	one := Float64("a", []int64{1}, []float64{1})
	require.ErrorContains(t, WriteSafetensors(&bytes.Buffer{}, []Tensor{one, one}), "twice")
}

// A header of 120,000 tensors.
func BenchmarkManyTensors(b *testing.B) {
	many := strings.Builder{}
	for i := range 120_000 {
		many.WriteString(`,"t` + strconv.Itoa(i) + `":{"dtype":"F32","shape":[0],"data_offsets":[0,0]}`)
	}
	content := file("{"+many.String()[1:]+"}", 0)
	for b.Loop() {
		if _, err := Open(bytes.NewReader(content), int64(len(content))); err != nil {
			b.Fatal(err)
		}
	}
}

func FuzzReadAll(f *testing.F) {
	f.Add(written(f, Float64("a", []int64{2}, []float64{1, 2})))
	f.Add(file(`{"a":{"dtype":"F32","shape":[1],"data_offsets":[0,4]},"__metadata__":{"x":"y"}}`, 4))
	var npy, npz bytes.Buffer
	require.NoError(f, WriteNPY(&npy, Float64("a", []int64{2}, []float64{1, 2})))
	require.NoError(f, WriteNPZ(&npz, []Tensor{Float64("a", []int64{2}, []float64{1, 2})}))
	f.Add(npy.Bytes())
	f.Add(npz.Bytes())
	f.Fuzz(func(t *testing.T, content []byte) {
		tensors, err := ReadAll(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			return
		}
		total := 0
		for _, x := range tensors {
			total += len(x.Data)
		}
		if total > 1100*len(content) { // deflate makes at most 1,032 of one
			t.Fatalf("%d bytes of tensors from %d of file", total, len(content))
		}
	})
}
