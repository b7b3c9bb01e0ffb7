package web_test

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chunk"
	"kembrel/store/blob"
	"kembrel/store/pack"
)

func noise(size int, seed byte) []byte {
	data := make([]byte, size)
	rand.NewChaCha8([32]byte{seed}).Read(data)
	return data
}

// blobOf is the file that holds a chunk, and where in it.
func (s *served) blobOf(t *testing.T, d chunk.Digest) (path string, place pack.Place) {
	places, err := s.db.Places(ctx, []chunk.Digest{d})
	require.NoError(t, err)
	require.Contains(t, places, d)
	return filepath.Join(s.blobs, filepath.FromSlash(pack.Name(places[d].Pack))), places[d]
}

func TestCheckpointComesBackByteForByte(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	files := map[string][]byte{"weights.safetensors": noise(2*chunk.MaxSize+123, 1), "sub/empty.bin": {},
		"labels.json": []byte(`["tug"]`)}
	in := manifest(leg, 12, files)
	refuse(t, s, api.CommitCheckpoint, in, api.Conflict, "has not been sent")
	require.Empty(t, call(t, s, api.ListCheckpoints, &leg.RunInput).Items, "whole or not at all")
	for _, content := range files {
		s.put(t, content)
	}
	c := call(t, s, api.CommitCheckpoint, in)
	require.Equal(t, "vessels/1@e12", c.Address)
	require.Equal(t, "weights only", c.UsableFor)
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

	response, content := s.raw(t, "GET", "/api/v1/projects/vessels/runs/1/checkpoints/last/file?path=labels.json", "",
		append(s.bearer(), "Range", "bytes=2-4")...)
	require.Equal(t, 206, response.StatusCode)
	require.Equal(t, "tug", content)
	require.Contains(t, response.Header.Get("Content-Disposition"), "labels.json")
	refuse(t, s, api.GetFile, &api.FileInput{CheckpointInput: at, Path: "../x"}, api.NotFound, "no file")
}

// A chunk that was damaged where it is kept never reaches anybody, and is healed when it is sent again. Bytes that are
// damaged on the way are found out by the file's digest, and only the chunk they are in is fetched again.
func TestDamagedOnTheWay(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := noise(3*chunk.MaxSize, 9)
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 1, map[string][]byte{"w": content}))
	at := checkpointAt(leg.RunInput, "last")
	files := call(t, s, api.GetCheckpoint, &at).Files
	target, err := url.Parse(s.URL)
	require.NoError(t, err)
	var asked []string
	always := false
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.ModifyResponse = func(r *http.Response) error {
		if strings.HasSuffix(r.Request.URL.Path, "/file") {
			asked = append(asked, r.Request.Header.Get("Range"))
			if len(asked) == 1 || always {
				body, err := io.ReadAll(r.Body)
				if err != nil {
					return err
				}
				body[len(body)/2] ^= 8
				r.Body = io.NopCloser(bytes.NewReader(body))
			}
		}
		return nil
	}
	between := httptest.NewServer(proxy)
	defer between.Close()
	other := client.New(between.URL, s.Token)
	into := filepath.Join(t.TempDir(), "model")
	require.NoError(t, client.Restore(ctx, other, at, files, into, false, func(int64) {}))
	got, err := os.ReadFile(filepath.Join(into, "w"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(content, got))
	require.Equal(t, []string{"bytes=0-12582911", "bytes=4194304-8388607"}, asked)
	always = true
	into = filepath.Join(t.TempDir(), "model")
	require.ErrorContains(t, client.Restore(ctx, other, at, files, into, false, func(int64) {}), "nothing was written")
	_, err = os.Stat(filepath.Join(into, "w"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestDamagedChunk(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := noise(100_000, 2)
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 1, map[string][]byte{"w": content}))
	path, place := s.blobOf(t, chunk.Sum(content))
	stored, err := os.ReadFile(path)
	require.NoError(t, err)
	stored[place.At+5000] ^= 1
	require.NoError(t, os.WriteFile(path, stored, 0o600))
	got := call(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "last"})
	found := call(t, s, api.CheckBlobs, &api.CheckBlobsInput{})
	require.EqualValues(t, 1, found.Chunks)
	require.Len(t, found.Damaged, 1)
	require.Equal(t, []string{"vessels/1@e1"}, found.Damaged[0].Checkpoints)
	require.EqualValues(t, 1, call(t, s, api.GetBlobs, &struct{}{}).Damaged)
	into := filepath.Join(t.TempDir(), "model")
	at := api.CheckpointInput{RunInput: leg.RunInput, At: "last"}
	require.Error(t, client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {}))
	_, err = os.Stat(into)
	require.ErrorIs(t, err, os.ErrNotExist, "nothing is left of a restore that failed")

	ask := &api.DigestListInput{Body: api.DigestList{Digests: []string{chunk.Sum(content).String()}}}
	require.Len(t, call(t, s, api.MissingChunks, ask).Digests, 1, "a chunk that was found damaged counts as missing")
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 2, map[string][]byte{"w": content}))
	path, _ = s.blobOf(t, chunk.Sum(content))
	require.NoError(t, os.Remove(path))
	require.Len(t, call(t, s, api.MissingChunks, ask).Digests, 1,
		"and so does one whose pack is gone, also the one being written")
	s.put(t, content)
	require.Empty(t, call(t, s, api.MissingChunks, ask).Digests)
	require.NoError(t, client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {}))
	in := &api.CheckBlobsInput{}
	in.Body.Share = 0.5
	require.LessOrEqual(t, call(t, s, api.CheckBlobs, in).Chunks, int64(1))
	require.Empty(t, call(t, s, api.CheckBlobs, &api.CheckBlobsInput{}).Damaged, "it is healed")
}

func TestBadChunksAndManifests(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := []byte("hydrophone")
	digest := chunk.Sum(content).String()
	refuse(t, s, api.PutChunk, &api.ChunkInput{Digest: digest, RawBody: []byte("hydrophonf")}, api.Mismatch,
		"arrived damaged")
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
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "best"},
		api.NotFound, "no checkpoint")
	for _, step := range []int64{2, 5} {
		call(t, s, api.CommitCheckpoint, manifest(leg, step, map[string][]byte{"w": content}))
	}
	best := func() string {
		c, err := client.Call(ctx, s.Client, api.GetCheckpoint,
			&api.CheckpointInput{RunInput: leg.RunInput, At: "best"})
		if err != nil {
			return ""
		}
		return c.Address
	}
	require.Eventually(t, func() bool { return best() == "vessels/1@e2" }, 60*time.Second, 50*time.Millisecond,
		"nearest at or before step 3")
	edit := &api.ProjectEdit{ProjectInput: vessels}
	higher := api.Objective{Curve: "loss.val", Direction: "higher"}
	edit.Body.Objective = &higher
	call(t, s, api.ChangeProject, edit)
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "best"}, api.NotFound,
		"at or before the best")
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "e9"}, api.NotFound,
		"no checkpoint @e9")
}

// What an earlier version kept as a blob for each chunk is read where it is, and moved into packs, byte for byte.
func TestChunksOfTheEarlierFormAreMoved(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := noise(2*chunk.MaxSize+5000, 4)
	in := manifest(leg, 1, map[string][]byte{"w": content})
	rest := content
	for _, piece := range in.Body.Files[0].Chunks {
		d, err := chunk.ParseDigest(piece.Digest)
		require.NoError(t, err)
		path := filepath.Join(s.blobs, filepath.FromSlash(pack.LegacyName(d)))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, rest[:piece.Size], 0o600))
		rest = rest[piece.Size:]
		_, err = s.db.Pool.Exec(ctx, "insert into chunk (digest, size) values ($1, $2)", d[:], piece.Size)
		require.NoError(t, err)
	}
	call(t, s, api.CommitCheckpoint, in)
	at := api.CheckpointInput{RunInput: leg.RunInput, At: "last"}
	files := call(t, s, api.GetCheckpoint, &at).Files
	read := func() {
		into := filepath.Join(t.TempDir(), "model")
		require.NoError(t, client.Restore(ctx, s.Client, at, files, into, false, func(int64) {}))
		got, err := os.ReadFile(filepath.Join(into, "w"))
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, got))
	}
	read()
	blobs, err := blob.NewLocal(s.blobs)
	require.NoError(t, err)
	did, err := pack.New(blobs, s.db).Clean(ctx, s.db)
	require.NoError(t, err)
	require.Equal(t, 3, did.Rewrote)
	_, err = os.ReadDir(filepath.Join(s.blobs, "chunk"))
	require.NoError(t, err)
	left := 0
	require.NoError(t, blobs.List(ctx, "chunk/", func(string, int64) error { left++; return nil }))
	require.Zero(t, left)
	read()
}

// Uses count the checkpoints that hold a chunk; what none holds is cleaned away when its lease is over, never what one
// holds.
func TestCleaning(t *testing.T) {
	s := serve(t)
	s.project(t)
	shared, own, loose := noise(300_000, 5), noise(200_000, 6), noise(100_000, 7)
	var legs []api.LegInput
	for i := range 2 {
		leg := s.leg(t)
		legs = append(legs, leg)
		s.put(t, shared)
		files := map[string][]byte{"shared": shared}
		if i == 1 {
			s.put(t, own)
			files["own"], files["again"] = own, own
		}
		call(t, s, api.CommitCheckpoint, manifest(leg, 1, files))
	}
	s.put(t, loose)
	uses := func(content []byte) (n int) {
		d := chunk.Sum(content)
		err := s.db.Pool.QueryRow(ctx, "select uses from chunk where digest = $1", d[:]).Scan(&n)
		if err != nil {
			return -1
		}
		return n
	}
	require.Equal(t, []int{2, 1}, []int{uses(shared), uses(own)})
	end := &api.EndInput{LegInput: legs[1]}
	end.Body.State = "finished"
	call(t, s, api.EndLeg, end)
	call(t, s, api.CommitCheckpoint, manifest(legs[0], 2, map[string][]byte{"x": shared})) // makes loose safe as well
	require.Equal(t, 0, uses(loose))
	call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: legs[1].RunInput, Days: 1e-9})
	require.Eventually(t, func() bool { return uses(own) == 0 }, 60*time.Second, 50*time.Millisecond)
	n, err := s.db.CleanChunks(ctx, time.Hour)
	require.NoError(t, err)
	require.Zero(t, n, "their lease is not over")
	n, err = s.db.CleanChunks(ctx, 0)
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
	require.Equal(t, []int{2, -1, -1}, []int{uses(shared), uses(own), uses(loose)})
	var wrong int
	require.NoError(t, s.db.Pool.QueryRow(ctx,
		`select count(*) from chunk c where uses <> (select count(distinct (f.run, f.checkpoint)) from checkpoint_file f, generate_series(0, length(f.chunks) / 36 - 1) i
		where substring(f.chunks from 36 * i + 1 for 32) = c.digest)`).Scan(&wrong))
	require.Zero(t, wrong)
}

// A restore does not write through what somebody else has put where it would put its own folder.
func TestRestoreIntoAFolderOfOthers(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := []byte("weights of a tug")
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 1, map[string][]byte{"weights.bin": content}))
	at := api.CheckpointInput{RunInput: leg.RunInput, At: "s1"}
	got := call(t, s, api.GetCheckpoint, &at)
	into, elsewhere := t.TempDir(), t.TempDir()
	restore := func() error {
		return client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {})
	}
	var name string
	require.NoError(t, client.Restore(ctx, s.Client, at, got.Files, into, false, func(int64) {
		found, err := filepath.Glob(into + "/.kembrel-restore-*")
		require.NoError(t, err)
		require.Len(t, found, 1)
		name = found[0]
	}))
	require.NoError(t, os.Remove(filepath.Join(into, "weights.bin")))
	require.NoError(t, os.Symlink(elsewhere, name))
	require.Error(t, restore())
	entries, err := os.ReadDir(elsewhere)
	require.NoError(t, err)
	require.Empty(t, entries)
	require.NoError(t, os.Remove(name))
	require.NoError(t, os.Mkdir(name, 0o700))
	require.NoError(t, os.Chmod(name, 0o777))
	require.ErrorContains(t, restore(), "others may write to it")
	require.NoError(t, os.Remove(name))
	require.NoError(t, restore())
}
