package web_test

import (
	"bytes"
	"context"
	"math"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chunk"
	"kembrel/core/tensor"
)

// keepWeights commits a checkpoint of weights alone.
func (s *served) keepWeights(t *testing.T, leg api.LegInput, step int64, tensors ...tensor.Tensor) api.CheckpointInput {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, tensor.WriteSafetensors(&b, tensors))
	s.put(t, b.Bytes())
	in := manifest(leg, step, map[string][]byte{"weights.safetensors": b.Bytes()})
	in.Body.Figures = map[string]api.Float{"loss.val": 0.25}
	call(t, s, api.CommitCheckpoint, in)
	return api.CheckpointInput{RunInput: leg.RunInput, At: api.At{Kind: api.AtStep, Step: step}.String()}
}

// Statistics of weights are there a moment after the commit, and dead and exploding layers are pointed out over the
// checkpoints.
func TestWeightsAreLookedInto(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	at := func(step int64, scale float64, dead ...float64) api.CheckpointInput {
		return s.keepWeights(t, leg, step, tensor.Float64("a.weight", []int64{2, 2},
			[]float64{1 * scale, -1 * scale, 2 * scale, 0.5 * scale}), tensor.Float64("b.weight", []int64{1, 3}, dead))
	}
	at(10, 1, 0.5, -0.5, 1)
	last := at(20, 1000, 0, 0, 0)
	var got *api.Tensors
	require.Eventually(t, func() bool {
		got = call(t, s, api.GetTensors, &api.TensorsInput{CheckpointInput: last})
		return got.Ready
	}, 60*time.Second, 20*time.Millisecond)
	require.EqualValues(t, 7, got.Parameters)
	a := got.Tensors[0]
	require.Equal(t, []any{"a.weight", "F64", int64(4), 625.0, -1000.0, 2000.0},
		[]any{a.Name, a.Dtype, a.Parameters, float64(a.Mean), float64(a.Min), float64(a.Max)})
	require.Len(t, a.Histogram, tensor.Bins)
	require.Equal(t, "exploding", a.Odd)
	require.Equal(t, "dead", got.Tensors[1].Odd)
	require.Contains(t, got.Says, "2 tensors, 7 parameters.")
	w := call(t, s, api.GetWeights, &api.WeightsInput{RunInput: leg.RunInput, Name: "a.weight"})
	require.Len(t, w.Checkpoints, 2)
	require.EqualValues(t, 10, w.Checkpoints[0].Step, "the earliest first")
	require.Len(t, w.Checkpoints[0].Tensors[0].Histogram, tensor.Bins)
	require.Nil(t, w.Checkpoints[0].Tensors[1].Histogram, "only of the tensor asked for")
	require.Equal(t, "Odd: a.weight (exploding), b.weight (dead).", w.Says)

	s.put(t, []byte("no tensors"))
	call(t, s, api.CommitCheckpoint, manifest(leg, 30, map[string][]byte{"weights.bin": []byte("no tensors")}))
	require.Eventually(t, func() bool {
		got = call(t, s, api.GetTensors,
			&api.TensorsInput{CheckpointInput: api.CheckpointInput{RunInput: leg.RunInput, At: "s30"}})
		return got.Problem != ""
	}, 60*time.Second, 20*time.Millisecond)
	require.Contains(t, got.Says, "cannot be read")
}

func TestMatchAndDifference(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	s.keepWeights(t, leg, 10, tensor.Float64("frozen", []int64{2}, []float64{1, math.NaN()}),
		tensor.Float64("moved", []int64{2}, []float64{3, 4}))
	after := s.keepWeights(t, leg, 20, tensor.Float64("frozen", []int64{2}, []float64{1, math.NaN()}),
		tensor.Float64("moved", []int64{2}, []float64{0, 0}), tensor.Float64("new", []int64{1}, []float64{0}))
	d := call(t, s, api.GetDifference, &api.DifferenceInput{CheckpointInput: after, From: "vessels/1@s10"})
	require.Equal(t, "1 of 2 tensors are equal, bit for bit. It does not fit: 1 unexpected; 2 fit.", d.Says)
	require.Equal(t, []any{true, false, 5.0, 1.0}, []any{d.Tensors[0].Equal, d.Tensors[1].Equal,
		float64(d.Tensors[1].Distance), float64(d.Tensors[1].Relative)})
	in := &api.MatchInput{}
	in.Body.Given.Address = "vessels/1@s20"
	in.Body.Want.Tensors = []tensor.Info{{Name: "frozen", Dtype: "F64", Shape: []int64{2}},
		{Name: "net.moved", Dtype: "F64", Shape: []int64{2}}}
	m := call(t, s, api.MatchTensors, in)
	require.False(t, m.Fits)
	require.Equal(t, []tensor.Rename{{Given: "moved", Want: "net.moved"}}, m.Renames)
	in.Body.Want.Address = "vessels/1@s20"
	require.True(t, call(t, s, api.MatchTensors, in).Fits)
	in.Body.Want.Part = "architecture"
	refuse(t, s, api.MatchTensors, in, api.NotFound, "lists no tensors")
	in.Body.Given.Address = "vessels"
	refuse(t, s, api.MatchTensors, in, api.Invalid, "names no checkpoint")
}

// Starting weights are known again by their fingerprint: a run that says it starts fresh and does not is told so.
func TestStartingWeights(t *testing.T) {
	s := serve(t)
	s.project(t)
	first := s.leg(t)
	w := tensor.Float64("w", []int64{3}, []float64{1, 2, 3})
	s.keepWeights(t, first, 10, w)
	var b bytes.Buffer
	require.NoError(t, tensor.WriteNPZ(&b, []tensor.Tensor{w}))
	f, err := tensor.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	print, err := tensor.Fingerprint(f)
	require.NoError(t, err)
	start := func(declared string, digest chunk.Digest) *api.RunDetail {
		leg := s.leg(t)
		says := batch(leg, 1, 1, "loss.val", 1)
		says.Body.Says = &api.ProgramSays{Start: &api.Start{Weights: declared, Digest: digest.String()},
			Needs: []string{"weights"}}
		call(t, s, api.SendBatch, says)
		return call(t, s, api.GetRun, &leg.RunInput)
	}
	require.Eventually(t, func() bool { return start("fresh", print).Start.Equals == "vessels/1@e10" }, 60*time.Second,
		50*time.Millisecond)
	require.Contains(t, start("fresh", print).Warnings[0], "declared to start fresh")
	require.Contains(t, start("", print).Warnings[0], "goes on from trained weights")
	fresh := start("fresh", chunk.Sum([]byte("others")))
	require.Empty(t, fresh.Warnings)
	require.Equal(t, "Its weights were fresh.", fresh.Start.Says)
	require.Equal(t, []string{"weights"}, fresh.Needs)
}

// A restore that was cut off goes on from what had arrived.
func TestRestoreGoesOn(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := noise(24*chunk.MaxSize, 3)
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 1, map[string][]byte{"w": content}))
	got := call(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "last"})
	at := api.CheckpointInput{RunInput: leg.RunInput, At: "last"}
	into := filepath.Join(t.TempDir(), "model")
	cut, cancel := context.WithCancel(ctx)
	var arrived atomic.Int64 // told by several at once
	require.Error(t, client.Restore(cut, s.Client, at, got.Files, into, false, func(n int64) {
		if arrived.Add(n) > 8*chunk.MaxSize {
			cancel()
		}
	}))
	require.NoFileExists(t, filepath.Join(into, "w"), "nothing appears before all is there")
	downloaded := s.downloaded()
	require.NoError(t, client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {}))
	require.Less(t, s.downloaded()-downloaded, int64(len(content))-6*chunk.MaxSize,
		"what had arrived is not fetched again")
	restored, err := os.ReadFile(filepath.Join(into, "w"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(content, restored))
	left, err := os.ReadDir(into)
	require.NoError(t, err)
	require.Len(t, left, 1, "nothing but the file is left")
}
