package tensor

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
)

func opened(t testing.TB, content []byte) *File {
	t.Helper()
	f, err := Open(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	return f
}

// Every value of the small floats, against the definition spelled out.
func TestSmallFloats(t *testing.T) {
	for bits, want := range map[uint16]float64{0: 0, 1: math.Ldexp(1, -24), 0x3c00: 1, 0x3555: 0.333251953125,
		0x7bff: 65504, 0x7c00: math.Inf(1), 0xfc00: math.Inf(-1), 0xc000: -2, 0x0400: math.Ldexp(1, -14)} {
		require.Equal(t, want, floats("F16", binary.LittleEndian.AppendUint16(nil, bits), nil)[0], "%04x", bits)
	}
	require.True(t, math.IsNaN(floats("F16", []byte{1, 0x7c}, nil)[0]))
	require.True(t, math.Signbit(floats("F16", []byte{0, 0x80}, nil)[0]))
	require.Equal(t, []float64{1, -2.5}, floats("BF16", []byte{0x80, 0x3f, 0x20, 0xc0}, nil))
	require.Equal(t, []float64{448, math.Ldexp(1, -9), 1, -1.5}, floats("F8_E4M3", []byte{0x7e, 1, 0x38, 0xbc}, nil),
		"no infinity: its greatest is 448")
	require.True(t, math.IsNaN(floats("F8_E4M3", []byte{0x7f}, nil)[0]))
	require.Equal(t, []float64{57344, math.Inf(1), math.Ldexp(1, -16)}, floats("F8_E5M2", []byte{0x7b, 0x7c, 1}, nil))
}

// Statistics against the plain definition, in every dtype, with values that are none.
func TestStatistics(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 1))
	for dtype, width := range widths {
		if dtype == "C64" || dtype == "C128" {
			continue
		}
		const n = 30_001
		data := make([]byte, n*width)
		for i := range data {
			data[i] = byte(r.Uint32())
		}
		if dtype == "F64" { // random bits reach so far that sums overflow
			for i := range n {
				binary.LittleEndian.PutUint64(data[8*i:], math.Float64bits(r.NormFloat64()*3+1))
			}
			binary.LittleEndian.PutUint64(data, math.Float64bits(math.NaN()))
			binary.LittleEndian.PutUint64(data[8:], math.Float64bits(math.Inf(-1)))
		}
		if dtype == "F32" || dtype == "BF16" {
			for i := int64(1); i < int64(len(data)); i += width {
				data[i+width-2] = 0x3f & data[i+width-2]
			}
		}
		f := opened(t, written(t, Tensor{Info{Name: "a", Dtype: dtype, Shape: []int64{n}}, data}))
		got, err := f.Statistics(0)
		require.NoError(t, err)
		values := floats(dtype, data, nil)
		var sum, squares float64
		var finite, nan, infinite int64
		low, high := math.Inf(1), math.Inf(-1)
		for _, v := range values {
			switch {
			case math.IsNaN(v):
				nan++
			case math.IsInf(v, 0):
				infinite++
			default:
				finite++
				sum += v
				low, high = min(low, v), max(high, v)
			}
		}
		mean := sum / float64(finite)
		for _, v := range values {
			if !math.IsNaN(v) && !math.IsInf(v, 0) {
				squares += (v - mean) * (v - mean)
			}
		}
		require.Equal(t, []int64{n, nan, infinite}, []int64{got.Count, got.NaN, got.Infinite}, dtype)
		require.Equal(t, []float64{low, high}, []float64{got.Min, got.Max}, dtype)
		require.InDelta(t, mean, got.Mean, 1e-9*math.Max(math.Abs(low), math.Abs(high)), dtype)
		require.InEpsilon(t, math.Sqrt(squares/float64(finite)), got.Deviation, 1e-9, dtype)
		total := int64(0)
		for _, c := range got.Histogram {
			total += c
		}
		require.Equal(t, finite, total, dtype)
	}
	f := opened(t, written(t, Float64("none", []int64{0}, nil),
		Float64("nan", []int64{2}, []float64{math.NaN(), math.NaN()}), Float64("one", []int64{3}, []float64{2, 2, 2})))
	for i, want := range map[int]Statistics{0: {Count: 2, NaN: 2}, 1: {}} {
		got, err := f.Statistics(i)
		require.NoError(t, err)
		require.Equal(t, want, got, f.Tensors[i].Name)
	}
	one, err := f.Statistics(2)
	require.NoError(t, err)
	require.Equal(t, []any{2.0, 0.0, 2.0, 2.0, int64(3)}, []any{one.Mean, one.Deviation, one.Min, one.Max,
		one.Histogram[0]})
}

// The same tensors have one fingerprint in every format and order; another value, name, shape or dtype has another.
func TestFingerprint(t *testing.T) {
	a, b := Float64("a", []int64{2, 3}, []float64{1, 2, 3, 4, 5, 6}), Float64("b", []int64{1}, []float64{7})
	print := func(content []byte) string {
		d, err := Fingerprint(opened(t, content))
		require.NoError(t, err)
		return d.String()
	}
	want := print(written(t, a, b))
	var npz bytes.Buffer
	require.NoError(t, WriteNPZ(&npz, []Tensor{b, a}))
	require.Equal(t, want, print(npz.Bytes()))
	d, err := Fingerprint(opened(t, written(t, b)), opened(t, written(t, a)))
	require.NoError(t, err)
	require.Equal(t, want, d.String(), "in two files")
	for _, other := range []Tensor{Float64("a", []int64{2, 3}, []float64{1, 2, 3, 4, 5, 7}),
		Float64("c", a.Shape, []float64{1, 2, 3, 4, 5, 6}), Float64("a", []int64{3, 2}, []float64{1, 2, 3, 4, 5, 6}),
		{Info{Name: "a", Dtype: "I64", Shape: a.Shape}, a.Data}} {
		require.NotEqual(t, want, print(written(t, other, b)))
	}
}

// NPY and NPZ that numpy wrote come out right, and what is written here numpy reads.
func TestAgainstNumpy(t *testing.T) {
	const python = "/usr/bin/python3" // Debian's, which has Debian's numpy
	if exec.Command(python, "-c", "import numpy").Run() != nil {
		t.Skip("python3-numpy is not installed; make test installs it")
	}
	folder := t.TempDir()
	run := func(script string) {
		cmd := exec.Command(python, "-c", script)
		cmd.Dir = folder
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	run(`
import numpy as np
base = np.arange(24).reshape(2, 3, 4) % 7 - 2
for order in '<', '>':
    for kind in 'f8 f4 f2 i8 i4 i2 i1 u8 u4 u2 u1 c8 c16'.split():
        a = (base.astype('u1') if kind[0] == 'u' else base).astype(order + kind)
        for fortran in False, True:
            np.save(f'{"big" if order == ">" else "little"}-{kind}-{"f" if fortran else "c"}.npy',
	np.asfortranarray(a) if fortran else a)
np.save('bool.npy', base > 0)
np.save('scalar.npy', np.float64(3.5))
np.save('empty.npy', np.zeros((0, 5)))
np.savez('stored.npz', **{'layer1.weight': base.astype('f4'), 'deep/bias': np.asfortranarray(base.astype('>f8'))})
np.savez_compressed('packed.npz', a=np.zeros(100000, 'f4'), b=base)
np.save('objects.npy', np.array([{}, 1], dtype=object), allow_pickle=True)
np.save('texts.npy', np.array(['tug', 'ferry']))
np.lib.format.write_array(open('version2.npy', 'wb'), base.astype('f8'), version=(2, 0))
`)
	want := make([]float64, 24)
	for i := range want {
		want[i] = float64(i%7 - 2)
	}
	read := func(name string) []Tensor {
		content, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		out, err := ReadAll(bytes.NewReader(content), int64(len(content)))
		require.NoError(t, err, name)
		return out
	}
	for _, order := range []string{"little", "big"} {
		for kind, dtype := range kinds {
			if kind == "b1" {
				continue
			}
			for _, layout := range []string{"c", "f"} {
				name := fmt.Sprintf("%s-%s-%s.npy", order, kind, layout)
				x := read(name)[0]
				require.Equal(t, Info{Name: "array", Dtype: dtype, Shape: []int64{2, 3, 4}}, x.Info, name)
				got := floats(dtype, x.Data, nil)
				for i, v := range want {
					at := i
					if dtype[0] == 'C' {
						at = 2 * i
					}
					if dtype[0] == 'U' && v < 0 {
						v += 256
					}
					require.Equal(t, v, got[at], "%s at %d", name, i)
				}
			}
		}
	}
	require.Equal(t, []int64{}, read("scalar.npy")[0].Shape)
	require.Equal(t, []int64{0, 5}, read("empty.npy")[0].Shape)
	require.Equal(t, "BOOL", read("bool.npy")[0].Dtype)
	require.Equal(t, want, floats("F64", read("version2.npy")[0].Data, nil))
	stored := read("stored.npz")
	require.Equal(t, []string{"deep/bias", "layer1.weight"}, []string{stored[0].Name, stored[1].Name})
	require.Equal(t, want, floats("F64", stored[0].Data, nil))
	require.Len(t, read("packed.npz")[0].Data, 400000)
	for name, why := range map[string]string{"objects.npy": "Python objects", "texts.npy": "not numbers"} {
		content, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		_, err = Open(bytes.NewReader(content), int64(len(content)))
		require.ErrorIs(t, err, ErrFormat)
		require.ErrorContains(t, err, why)
	}
	var npy, npz bytes.Buffer
	ours := Float64("x", []int64{2, 3}, []float64{1, 2, 3, 4, 5, math.NaN()})
	require.NoError(t, WriteNPY(&npy, ours))
	require.NoError(t, WriteNPZ(&npz, []Tensor{ours, {Info{Name: "flags", Dtype: "BOOL", Shape: []int64{2}},
		[]byte{1, 0}},
		{Info{Name: "n", Dtype: "I16", Shape: []int64{}}, []byte{5, 0}}}))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "ours.npy"), npy.Bytes(), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "ours.npz"), npz.Bytes(), 0o600))
	run(`
import numpy as np
x = np.load('ours.npy')
assert x.shape == (2, 3) and x[1, 0] == 4 and np.isnan(x[1, 2]), x
z = np.load('ours.npz')
assert z['flags'].dtype == bool and list(z['flags']) == [True,
	False] and z['n'].shape == () and int(z['n']) == 5 and z['x'].dtype == '<f8'
`)
	require.ErrorContains(t, WriteNPY(&npy, Tensor{Info{Name: "b", Dtype: "BF16", Shape: []int64{1}}, []byte{0,
		0}}), "safetensors")
}

func info(name string, shape ...int64) Info { return Info{Name: name, Dtype: "F32", Shape: shape} }

func TestMatch(t *testing.T) {
	model := []Info{info("net.1.weight", 64, 384), info("net.1.bias", 64), info("net.2.weight", 6, 64),
		info("net.2.bias", 6)}
	require.True(t, Compare(model, model).Fits())
	require.Equal(t, "It fits: all 4 tensors have the names, shapes and dtypes wanted.",
		Compare(model, model).Sentence())
	wrapped := []Info{info("module.net.1.weight", 64, 384), info("module.net.1.bias", 64),
		info("module.net.2.weight", 6, 64), info("module.net.2.bias", 6)}
	m := Compare(wrapped, model)
	require.Len(t, m.Renames, 4)
	require.Equal(t, Rename{"module.net.1.bias", "net.1.bias"}, m.Renames[0])
	require.Contains(t, m.Sentence(),
		`4 missing, 4 unexpected; 0 fit. 4 would fit with "" in place of "module." at the start`)
	wider := []Info{info("net.1.weight", 128, 384), info("net.1.bias", 64), {Name: "net.2.weight", Dtype: "F64",
		Shape: []int64{6, 64}},
		info("head.offset", 6)}
	m = Compare(wider, model)
	require.Equal(t, []int{1, 1, 1, 1, 1}, []int{m.Same, len(m.Shapes), len(m.Dtypes), len(m.Missing),
		len(m.Unexpected)})
	require.Equal(t, []Rename{{"head.offset", "net.2.bias"}}, m.Renames, "the only ones of their shape")
	require.False(t, m.Fits())
	require.Empty(t, Compare([]Info{info("a", 2)}, []Info{info("b", 3)}).Renames, "another shape is no rename")
}

func TestDiffer(t *testing.T) {
	before := opened(t, written(t, Float64("frozen", []int64{2}, []float64{1, math.NaN()}),
		Float64("moved", []int64{3}, []float64{3, 4, 0}), Float64("gone", []int64{1}, []float64{1}),
		Float64("reshaped", []int64{2}, []float64{1, 2})))
	after := opened(t, written(t, Float64("frozen", []int64{2}, []float64{1, math.NaN()}),
		Float64("moved", []int64{3}, []float64{3, 4, 5}), Float64("reshaped", []int64{1, 2}, []float64{1, 2})))
	got, err := Differ(before, after)
	require.NoError(t, err)
	require.Len(t, got, 2)
	require.True(t, got[0].Equal)
	require.Equal(t, []any{0.0, int64(1)}, []any{got[0].Distance, got[0].Odd})
	d := got[1]
	require.False(t, d.Equal)
	require.Equal(t, []any{5.0, 1.0, 5.0, int64(2)}, []any{d.Distance, d.Relative, d.Largest, d.At})
	require.InDelta(t, 25/(5*math.Sqrt(50)), d.Cosine, 1e-12)
	cast := make([]byte, 0)
	for _, v := range []float32{3, 4, 0} {
		cast = binary.LittleEndian.AppendUint32(cast, math.Float32bits(v))
	}
	got, err = Differ(before, opened(t, written(t, Tensor{Info{Name: "moved", Dtype: "F32", Shape: []int64{3}}, cast})))
	require.NoError(t, err)
	require.Equal(t, []any{0.0, false}, []any{got[0].Distance, got[0].Equal}, "another dtype is not bit for bit equal")
}

func BenchmarkStatistics(b *testing.B) {
	data := make([]byte, 64<<20)
	r := rand.New(rand.NewPCG(1, 1))
	for i := 0; i < len(data); i += 4 {
		binary.LittleEndian.PutUint32(data[i:], math.Float32bits(float32(r.NormFloat64())))
	}
	f := opened(b, written(b, Tensor{Info{Name: "a", Dtype: "F32", Shape: []int64{16 << 20}}, data}))
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		f.Statistics(0)
	}
}

// The same large tensors give the same pieces in a safetensors file, an NPZ, an NPY and a plain zip, whatever stands
// between them.
func TestTheSameTensorGivesTheSamePieces(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	values := func(n int) []float64 {
		out := make([]float64, n)
		for i := range out {
			out[i] = r.NormFloat64()
		}
		return out
	}
	large, larger, small := Float64("large", []int64{300, 200}, values(60_000)),
		Float64("larger", []int64{700_000}, values(700_000)), Float64("small", []int64{7}, values(7))
	pieces := func(content []byte) map[chunk.Digest]bool {
		bounds := Bounds(bytes.NewReader(content), int64(len(content)))
		list, size, whole, err := chunk.Cut(bytes.NewReader(content), bounds)
		require.NoError(t, err)
		require.EqualValues(t, len(content), size)
		require.Equal(t, chunk.Sum(content), whole)
		out := map[chunk.Digest]bool{}
		for _, p := range list {
			out[p.Digest] = true
		}
		return out
	}
	var want []chunk.Digest
	for _, data := range [][]byte{large.Data, larger.Data} {
		for len(data) > 0 {
			n := min(len(data), chunk.MaxSize)
			want = append(want, chunk.Sum(data[:n]))
			data = data[n:]
		}
	}
	require.Len(t, want, 3)
	var tensors, npz, plain, npy bytes.Buffer
	require.NoError(t, WriteSafetensors(&tensors, []Tensor{small, large, larger}))
	require.NoError(t, WriteNPZ(&npz, []Tensor{larger, small, large}))
	z := zip.NewWriter(&plain)
	for _, each := range []Tensor{large, small, larger} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: "data/" + each.Name, Method: zip.Store})
		require.NoError(t, err)
		_, err = w.Write(each.Data)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, WriteNPY(&npy, larger))
	for name, content := range map[string][]byte{"safetensors": tensors.Bytes(), "npz": npz.Bytes(),
		"zip": plain.Bytes()} {
		got := pieces(content)
		for _, d := range want {
			require.True(t, got[d], name)
		}
	}
	require.True(t, pieces(npy.Bytes())[want[1]])
	for _, content := range [][]byte{nil, []byte("hydrophone"), tensors.Bytes()[:1000], npz.Bytes()[:70_000]} {
		pieces(content)
	}
}

// Weights that two layers share are stored once. They fit a file with both names, and the other way round.
func TestMatchOfTiedWeights(t *testing.T) {
	tied := info("embed.weight", 40, 8)
	tied.Also = []string{"head.weight"}
	both := []Info{info("embed.weight", 40, 8), info("head.weight", 40, 8)}
	require.True(t, Compare([]Info{tied}, both).Fits())
	require.True(t, Compare(both, []Info{tied}).Fits())
	require.True(t, Compare([]Info{info("head.weight", 40, 8)}, []Info{tied}).Fits(), "under any of its names")
	m := Compare([]Info{info("embed.weight", 40, 8), info("head.weight", 41, 8)}, []Info{tied})
	require.Len(t, m.Shapes, 1, "each name that is there has to fit")
	require.Equal(t, "other", Compare(append(both, info("other", 1)), []Info{tied}).Unexpected[0].Name)
	require.Len(t, Compare(nil, []Info{tied}).Missing, 1)

	header := `{"__metadata__":{"also:head.weight":"a","kind":"x"},"a":{"dtype":"U8","shape":[1],"data_offsets":[0,1]}}`
	file := append(binary.LittleEndian.AppendUint64(nil, uint64(len(header))), header+"\x07"...)
	f, err := Open(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	require.Equal(t, []Info{{Name: "a", Dtype: "U8", Shape: []int64{1}, Also: []string{"head.weight"}}}, f.Tensors)
}

// A small archive that unfolds to very much, or to very many, is refused before anything of it is read.
func TestArchivesThatUnfoldToTooMuch(t *testing.T) {
	var file bytes.Buffer
	z := zip.NewWriter(&file)
	zeros := make([]byte, 1<<20)
	for i := range 300 { // 300 MB in 300 kB
		w, err := z.Create(fmt.Sprintf("layer%d.npy", i))
		require.NoError(t, err)
		head := []byte("{'descr': '|u1', 'fortran_order': False, 'shape': (1048576,), }\n")
		_, err = w.Write(append(append([]byte("\x93NUMPY\x01\x00"), byte(len(head)), 0), head...))
		require.NoError(t, err)
		_, err = w.Write(zeros)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.Less(t, file.Len(), 1<<20)
	_, err := Open(bytes.NewReader(file.Bytes()), int64(file.Len()))
	require.ErrorIs(t, err, ErrFormat)
	require.ErrorContains(t, err, "which is more than 100 times as many")

	var many bytes.Buffer
	z = zip.NewWriter(&many)
	for i := range MaxTensors + 1 {
		_, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("%d.npy", i), Method: zip.Store})
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	_, err = Open(bytes.NewReader(many.Bytes()), int64(many.Len()))
	require.ErrorContains(t, err, "100001 members; at most 100000 are read")

	var header strings.Builder
	header.WriteString(`{"a":{"dtype":"U8","shape":[0],"data_offsets":[0,0]}`)
	for i := range MaxTensors {
		fmt.Fprintf(&header, `,"t%d":{"dtype":"U8","shape":[0],"data_offsets":[0,0]}`, i)
	}
	header.WriteString("}")
	long := append(binary.LittleEndian.AppendUint64(nil, uint64(header.Len())), header.String()...)
	_, err = Open(bytes.NewReader(long), int64(len(long)))
	require.ErrorContains(t, err, "more than 100000 tensors")
}
