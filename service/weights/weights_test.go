package weights

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"io"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/tensor"
	"kembrel/service/slicetest"
	"kembrel/store"
)

// file writes a safetensors file of F32 tensors of two axes.
func file(t *testing.T, tensors map[string][]float32) []byte {
	head, body := map[string]any{}, []byte{}
	for _, name := range []string{"in.weight", "out.weight", "odd\x00name"} {
		values, there := tensors[name]
		if !there {
			continue
		}
		from := len(body)
		for _, v := range values {
			body = binary.LittleEndian.AppendUint32(body, math.Float32bits(v))
		}
		head[name] = map[string]any{"dtype": "F32", "shape": []int{1, len(values)},
			"data_offsets": []int{from, len(body)}}
	}
	text, err := json.Marshal(head)
	require.NoError(t, err)
	out := binary.LittleEndian.AppendUint64(nil, uint64(len(text)))
	return append(append(out, text...), body...)
}

// hold is a storage of what is known of files, and holds vessels/1 with checkpoints of epochs 1 and up.
type hold struct {
	Storage
	files map[string][]byte // by path, of epoch 1, 2 ...
	paths []string
	known map[string]store.TensorFile
	gone  bool
}

func (h *hold) digest(path string) chunk.Digest { return chunk.Sum(h.files[path]) }

func (h *hold) stored(i int) []store.File {
	path := h.paths[i]
	d := h.digest(path)
	return []store.File{{Part: "weights", Path: path, Size: int64(len(h.files[path])), Digest: d[:]},
		{Part: "architecture", Path: "list.json", Size: int64(len(listed)), Digest: make([]byte, 32)},
		{Part: "notes", Path: "notes.txt", Size: 3, Digest: make([]byte, 32)}}
}

const listed = `{"tensors":[{"name":"in.weight","dtype":"F32","shape":[1,3]}]}`

func (h *hold) Checkpoints(context.Context, api.RunInput) (out []api.Checkpoint, ids []int64, err error) {
	for i := len(h.paths) - 1; i >= 0; i-- {
		c := api.Checkpoint{Address: "vessels/1@e" + string(rune('1'+i)), Step: int64(40 * (i + 1)),
			Parts: []string{"weights", "architecture", "notes"}}
		for _, f := range h.stored(i) {
			c.Files = append(c.Files, api.File{Part: f.Part, Path: f.Path, Size: f.Size,
				Digest: chunk.Digest(f.Digest).String()})
		}
		out, ids = append(out, c), append(ids, int64(i+1))
	}
	return out, ids, nil
}

func (h *hold) FindHeld(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error) {
	list, ids, err := h.Checkpoints(ctx, in.RunInput)
	for i, c := range list {
		if strings.HasSuffix(c.Address, "@"+in.At) {
			return &list[i], h.stored(int(ids[i]) - 1), ids[i], err
		}
	}
	return nil, nil, 0, api.Fail(api.NotFound, "there is no such checkpoint")
}

func (h *hold) Find(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, error) {
	c, files, _, err := h.FindHeld(ctx, in)
	return c, files, err
}

func (h *hold) Content(_ context.Context, f store.File) (io.ReadSeeker, error) {
	switch {
	case h.gone:
		return nil, api.Fail(api.Unavailable, "the blob store does not answer")
	case f.Path == "list.json":
		return strings.NewReader(listed), nil
	case f.Path == "notes.txt":
		return strings.NewReader("hi!"), nil
	}
	return bytes.NewReader(h.files[f.Path]), nil
}

func (h *hold) ListFiles(_ context.Context, _, checkpoint int64) ([]store.File, error) {
	return h.stored(int(checkpoint) - 1), nil
}

func (h *hold) Tensors(_ context.Context, digests [][]byte) (out []store.TensorFile, err error) {
	for _, d := range digests {
		if f, there := h.known[string(d)]; there {
			out = append(out, f)
		}
	}
	return out, nil
}

func fresh(t *testing.T, epochs ...map[string][]float32) (*Weights, *hold) {
	h := &hold{files: map[string][]byte{}, known: map[string]store.TensorFile{}}
	for i, tensors := range epochs {
		path := "e" + string(rune('1'+i)) + ".safetensors"
		h.paths, h.files[path] = append(h.paths, path), file(t, tensors)
	}
	s := New(slicetest.New(1).Finder(), h)
	s.ReadFrom(h)
	return s, h
}

// inspect looks into all files, as the jobs do.
func inspect(t *testing.T, s *Weights, h *hold) {
	for i, path := range h.paths {
		d := h.digest(path)
		got, err := s.inspectFile(t.Context(), store.PendingFile{Run: 101, Checkpoint: int64(i + 1), Path: path,
			Digest: d[:]})
		require.NoError(t, err)
		h.known[string(d[:])] = got
	}
}

var at = api.CheckpointInput{RunInput: api.RunInput{ProjectInput: slicetest.In, Number: 1}, At: "e1"}

func TestTensorsOfACheckpoint(t *testing.T) {
	s, h := fresh(t, map[string][]float32{"in.weight": {1, 2, 3}, "out.weight": {0, float32(math.NaN())},
		"odd\x00name": {4}})
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	got, err := s.GetTensors(ctx, who, &api.TensorsInput{CheckpointInput: at})
	require.NoError(t, err)
	require.False(t, got.Ready)
	require.Equal(t, "Its weights are being looked into.", got.Says)
	inspect(t, s, h)
	got, err = s.GetTensors(ctx, who, &api.TensorsInput{CheckpointInput: at})
	require.NoError(t, err)
	require.True(t, got.Ready)
	require.EqualValues(t, 6, got.Parameters)
	require.Contains(t, got.Says, "3 tensors, 6 parameters. Odd: out.weight")
	for _, x := range got.Tensors {
		require.NotContains(t, x.Name, "\x00", "what the database cannot hold")
		if x.Name == "in.weight" {
			require.InDelta(t, 2, float64(x.Mean), 1e-6)
			require.Len(t, x.Quantiles, len(quantiles))
		}
	}
	got, err = s.GetTensors(ctx, who, &api.TensorsInput{CheckpointInput: at, Part: "architecture"})
	require.NoError(t, err)
	require.Equal(t, "1 tensors, 3 parameters.", got.Says)
	_, err = s.GetTensors(ctx, who, &api.TensorsInput{CheckpointInput: at, Part: "notes"})
	require.ErrorContains(t, err, "lists no tensors; it has the parts weights, architecture, notes")
}

// What cannot be read is an error of that file, and a fault of ours is none of the service's.
func TestWhatCannotBeRead(t *testing.T) {
	s, h := fresh(t, map[string][]float32{"in.weight": {1, 2, 3}})
	d := h.digest(h.paths[0])
	pending := store.PendingFile{Run: 101, Checkpoint: 1, Path: h.paths[0], Digest: d[:]}
	whole := h.files[h.paths[0]]
	for _, cut := range []int{0, 4, 8, 20, len(whole) - 1} {
		h.files[h.paths[0]] = whole[:cut]
		_, err := s.inspectFile(t.Context(), pending)
		require.Error(t, err, "cut at %d", cut)
	}
	h.files[h.paths[0]] = whole
	h.gone = true
	_, err := s.inspectFile(t.Context(), pending)
	require.True(t, api.Is(err, api.Unavailable), "a moment's missing store is no damage")
	h.gone = false
	pending.Path = "other.safetensors"
	out, err := s.inspectFile(t.Context(), pending)
	require.NoError(t, err)
	require.Nil(t, out.Weights, "deleted meanwhile")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	pending.Path = h.paths[0]
	_, err = s.inspectFile(ctx, pending)
	require.ErrorIs(t, err, context.Canceled)
}

func TestOverTheEpochs(t *testing.T) {
	s, h := fresh(t, map[string][]float32{"in.weight": {1, 2, 3}}, map[string][]float32{"in.weight": {2, 4, 6}})
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := &api.WeightsInput{RunInput: at.RunInput, Name: "in.weight"}
	got, err := s.GetWeights(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, "No weights that can be read were saved.", got.Says)
	inspect(t, s, h)
	got, err = s.GetWeights(ctx, who, in)
	require.NoError(t, err)
	require.Len(t, got.Checkpoints, 2)
	require.EqualValues(t, 40, got.Checkpoints[0].Step, "the earliest first")
	require.InDelta(t, 4, float64(got.Checkpoints[1].Tensors[0].Mean), 1e-6)
	require.NotEmpty(t, got.Checkpoints[0].Tensors[0].Histogram)
}

func TestMatchAndDifference(t *testing.T) {
	s, _ := fresh(t, map[string][]float32{"in.weight": {1, 2, 3}}, map[string][]float32{"in.weight": {2, 4, 6}})
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	match := func(given, want api.MatchSide) (*api.Match, error) {
		in := &api.MatchInput{}
		in.Body.Given, in.Body.Want = given, want
		return s.MatchTensors(ctx, who, in)
	}
	got, err := match(api.MatchSide{Address: "vessels/1@e1"},
		api.MatchSide{Address: "vessels/1@e1", Part: "architecture"})
	require.NoError(t, err)
	require.True(t, got.Fits, got.Says)
	got, err = match(api.MatchSide{Address: "vessels/1@e1"}, api.MatchSide{Tensors: []tensor.Info{{Name: "in.weight",
		Dtype: "F32", Shape: []int64{2, 3}}}})
	require.NoError(t, err)
	require.False(t, got.Fits)
	_, err = match(api.MatchSide{Address: "vessels/1"}, api.MatchSide{})
	require.ErrorContains(t, err, "names no checkpoint")
	_, err = match(api.MatchSide{Address: "vessels/1@e9"}, api.MatchSide{})
	require.True(t, api.Is(err, api.NotFound))

	in := &api.DifferenceInput{CheckpointInput: at, From: "vessels/1@e1"}
	same, err := s.GetDifference(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, "All 1 tensors are equal, bit for bit.", same.Says)
	in.At = "e2"
	other, err := s.GetDifference(ctx, who, in)
	require.NoError(t, err)
	require.InDelta(t, math.Sqrt(14), float64(other.Tensors[0].Distance), 1e-5)
	require.InDelta(t, 1, float64(other.Tensors[0].Cosine), 1e-6)
	require.InDelta(t, 3, float64(other.Tensors[0].Largest), 1e-6)

	// Two at a time; who gives up meanwhile does not wait on.
	s.differing <- struct{}{}
	s.differing <- struct{}{}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = s.GetDifference(gone, who, in)
	require.ErrorIs(t, err, context.Canceled)
}
