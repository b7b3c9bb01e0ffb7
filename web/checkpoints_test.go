package web_test

import (
	"bytes"
	"encoding/hex"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chunk"
)

func noise(size int, seed byte) []byte {
	data := make([]byte, size)
	rand.NewChaCha8([32]byte{seed}).Read(data)
	return data
}

func (s *served) blobOf(d chunk.Digest) string {
	digits := hex.EncodeToString(d[:])
	return filepath.Join(s.blobs, "chunk", digits[:2], digits[2:])
}

func TestCheckpointComesBackByteForByte(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	files := map[string][]byte{"weights.safetensors": noise(2*chunk.MaxSize+123, 1), "sub/empty.bin": {}, "labels.json": []byte(`["tug"]`)}
	in := manifest(leg, 12, files)
	refuse(t, s, api.CommitCheckpoint, in, api.Conflict, "has not been sent")
	require.Empty(t, call(t, s, api.ListCheckpoints, &leg.RunInput).Items, "whole or not at all")
	for _, content := range files {
		s.put(t, content)
	}
	c := call(t, s, api.CommitCheckpoint, in)
	require.Equal(t, "vessels/1@e12", c.Address)
	require.Equal(t, "weights only", c.Fit)
	require.Equal(t, c.Address, call(t, s, api.CommitCheckpoint, in).Address, "committed again, it is the same")
	other := manifest(leg, 12, map[string][]byte{"labels.json": files["labels.json"]})
	refuse(t, s, api.CommitCheckpoint, other, api.Conflict, "already")

	got := call(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "last"})
	into := filepath.Join(t.TempDir(), "model")
	at := api.CheckpointInput{RunInput: leg.RunInput, At: "s12"}
	require.NoError(t, client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {}))
	for path, content := range files {
		restored, err := os.ReadFile(filepath.Join(into, path))
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, restored), path)
	}
	err := client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {})
	require.True(t, client.IsExists(err))
	require.NoError(t, client.Restore(ctx, s.Client, at, got.Files, into, true, func(int64) {}))

	response, content := s.raw(t, "GET", "/api/v1/projects/vessels/runs/1/checkpoints/last/file?path=labels.json", "", append(s.bearer(), "Range", "bytes=2-4")...)
	require.Equal(t, 206, response.StatusCode)
	require.Equal(t, "tug", content)
	require.Contains(t, response.Header.Get("Content-Disposition"), "labels.json")
	refuse(t, s, api.GetFile, &api.FileInput{CheckpointInput: at, Path: "../x"}, api.NotFound, "no file")
}

// A chunk that was damaged where it is kept never reaches anybody, and is healed when it is sent again.
func TestDamagedChunk(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := noise(100_000, 2)
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 1, map[string][]byte{"w": content}))
	path := s.blobOf(chunk.Sum(content))
	stored, err := os.ReadFile(path)
	require.NoError(t, err)
	stored[5000] ^= 1
	require.NoError(t, os.WriteFile(path, stored, 0o600))
	got := call(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "last"})
	into := filepath.Join(t.TempDir(), "model")
	at := api.CheckpointInput{RunInput: leg.RunInput, At: "last"}
	require.Error(t, client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {}))
	_, err = os.Stat(into)
	require.ErrorIs(t, err, os.ErrNotExist, "nothing is left of a restore that failed")

	require.NoError(t, os.Remove(path))
	ask := &api.DigestListInput{Body: api.DigestList{Digests: []string{chunk.Sum(content).String()}}}
	require.Len(t, call(t, s, api.MissingChunks, ask).Digests, 1, "a chunk that is lost counts as missing")
	s.put(t, content)
	require.Empty(t, call(t, s, api.MissingChunks, ask).Digests)
	require.NoError(t, client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {}))
}

func TestBadChunksAndManifests(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := []byte("hydrophone")
	digest := chunk.Sum(content).String()
	refuse(t, s, api.PutChunk, &api.ChunkInput{Digest: digest, RawBody: []byte("hydrophonf")}, api.Mismatch, "arrived damaged")
	refuse(t, s, api.PutChunk, &api.ChunkInput{Digest: digest, RawBody: content[:5]}, api.Mismatch, "arrived damaged")
	refuse(t, s, api.PutChunk, &api.ChunkInput{Digest: "b3:xyz", RawBody: content}, api.Invalid, "hexadecimal")
	big := make([]byte, chunk.MaxSize+1)
	refuse(t, s, api.PutChunk, &api.ChunkInput{Digest: chunk.Sum(big).String(), RawBody: big}, api.TooLarge, "")
	full := make([]byte, chunk.MaxSize)
	call(t, s, api.PutChunk, &api.ChunkInput{Digest: chunk.Sum(full).String(), RawBody: full})
	s.put(t, content)

	for says, spoil := range map[string]func(*api.NewCheckpoint){
		"leaves its folder": func(c *api.NewCheckpoint) { c.Body.Files[0].Path = "../x" },
		"not relative":      func(c *api.NewCheckpoint) { c.Body.Files[0].Path = "/etc/passwd" },
		"part name":         func(c *api.NewCheckpoint) { c.Body.Files[0].Part = "../weights" },
		"its chunks 10":     func(c *api.NewCheckpoint) { c.Body.Files[0].Size = 11 },
		"digest is another": func(c *api.NewCheckpoint) { c.Body.Files[0].Digest = chunk.Sum(nil).String() },
		"there twice":       func(c *api.NewCheckpoint) { c.Body.Files = append(c.Body.Files, c.Body.Files[0]) },
		"file and a folder": func(c *api.NewCheckpoint) {
			f := c.Body.Files[0]
			f.Path += "/y"
			c.Body.Files = append(c.Body.Files, f)
		},
		"not a UUID":         func(c *api.NewCheckpoint) { c.Key = strings.Repeat("x", 36) },
		"expected array len": func(c *api.NewCheckpoint) { c.Body.Files = []api.File{} },
	} {
		in := manifest(leg, 3, map[string][]byte{"w": content})
		spoil(in)
		_, err := client.Call(ctx, s.Client, api.CommitCheckpoint, in)
		if says == "expected array len" || says == "not a UUID" {
			require.True(t, api.Is(err, api.Invalid), "%v", err)
			continue
		}
		require.ErrorContains(t, err, says)
	}
	in := manifest(leg, 3, map[string][]byte{"w": content})
	in.Body.Files[0].Chunks[0].Size, in.Body.Files[0].Size = 9, 9
	refuse(t, s, api.CommitCheckpoint, in, api.Mismatch, "10 bytes, not 9")
	require.Empty(t, call(t, s, api.ListCheckpoints, &leg.RunInput).Items)
}

func TestBestByObjective(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := []byte("w")
	s.put(t, content)
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 5, 4, 1, 2, 3))
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "best"}, api.NotFound, "no checkpoint")
	for _, step := range []int64{2, 5} {
		call(t, s, api.CommitCheckpoint, manifest(leg, step, map[string][]byte{"w": content}))
	}
	best := func() string {
		c, err := client.Call(ctx, s.Client, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "best"})
		if err != nil {
			return ""
		}
		return c.Address
	}
	require.Eventually(t, func() bool { return best() == "vessels/1@e2" }, 5*time.Second, 50*time.Millisecond, "nearest at or before step 3")
	edit := &api.ProjectEdit{ProjectInput: vessels}
	higher := "loss.val higher"
	edit.Body.Objective = &higher
	call(t, s, api.ChangeProject, edit)
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "best"}, api.NotFound, "at or before the best")
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "e9"}, api.NotFound, "no checkpoint @e9")
}
