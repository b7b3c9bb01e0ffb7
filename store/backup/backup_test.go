package backup_test

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/store/backup"
	"kembrel/store/blob"
	"kembrel/store/pack"
	"kembrel/store/pg"
	"kembrel/test/testdb"
)

func local(t *testing.T) (blob.Store, string) {
	folder := t.TempDir()
	s, err := blob.NewLocal(folder)
	require.NoError(t, err)
	return s, folder
}

// harbour is a Kembrel that keeps chunks in packs.
type harbour struct {
	backup.Parts
	packs  *pack.Packs
	chunks map[chunk.Digest][]byte
	folder string // of the blobs
}

func start(t *testing.T) *harbour {
	h := &harbour{chunks: map[chunk.Digest][]byte{}}
	h.Database = testdb.URL(t)
	h.Blobs, h.folder = local(t)
	db, err := pg.Open(t.Context(), h.Database)
	require.NoError(t, err)
	t.Cleanup(db.Close)
	h.packs = pack.New(h.Blobs, db)
	h.put(t, "a tug ")
	return h
}

// put keeps a chunk and ends the pack that it lies in.
func (h *harbour) put(t *testing.T, word string) {
	body := []byte(strings.Repeat(word, 30_000))
	d := chunk.Sum(body)
	require.NoError(t, h.packs.Put(t.Context(), d, body))
	require.NoError(t, h.packs.Close(t.Context()))
	h.chunks[d] = body
}

func (h *harbour) backUp(t *testing.T, into blob.Store, keep int) backup.Made {
	t.Helper()
	made, err := backup.Make(t.Context(), h.Parts, into, "v1", keep, func(pack.Copied) {})
	require.NoError(t, err)
	time.Sleep(1100 * time.Millisecond) // backups are named by their second
	return made
}

// empty is an empty database beside another.
func empty(t *testing.T, beside string) string {
	u, err := url.Parse(beside)
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), beside)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	name := fmt.Sprintf("test_%d", time.Now().UnixNano())
	_, err = conn.Exec(t.Context(), "create database "+name)
	require.NoError(t, err)
	t.Cleanup(func() {
		if c, err := pgx.Connect(context.Background(), beside); err == nil {
			defer c.Close(context.Background())
			c.Exec(context.Background(), "drop database "+name+" with (force)")
		}
	})
	u.Path = "/" + name
	return u.String()
}

// A backup holds all that the database knows, copies what is new only, and gives every byte back in an empty place.
func TestThereAndBack(t *testing.T) {
	h := start(t)
	into, _ := local(t)
	first := h.backUp(t, into, 0)
	require.Len(t, first.Blobs, 1)
	require.Positive(t, first.Size())
	h.put(t, "a ferry ")
	second := h.backUp(t, into, 0)
	require.Len(t, second.Blobs, 2)
	require.Less(t, second.Copied, second.Size(), "the first pack is there already")
	list, err := backup.List(t.Context(), into)
	require.NoError(t, err)
	require.Equal(t, []string{second.Name(), first.Name()}, []string{list[0].Name(), list[1].Name()})

	for at, chunks := range map[string]int{"": 2, first.Name(): 1} {
		blobs, _ := local(t)
		to := backup.Parts{Database: empty(t, h.Database), Blobs: blobs}
		seen := 0
		_, err := backup.Restore(t.Context(), into, at, to, func(backup.Blob) { seen++ })
		require.NoError(t, err)
		require.Equal(t, chunks, seen)
		db, err := pg.Open(t.Context(), to.Database)
		require.NoError(t, err)
		found := 0
		for d, body := range h.chunks {
			if got, err := pack.New(blobs, db).Get(t.Context(), d); err == nil {
				require.Equal(t, body, got)
				found++
			}
		}
		db.Close()
		require.Equal(t, chunks, found, at)
		_, err = backup.Restore(t.Context(), into, at, to, func(backup.Blob) {})
		require.ErrorIs(t, err, backup.ErrNotEmpty, "nothing is written over")
	}
	_, err = backup.Restore(t.Context(), into, "yesterday", backup.Parts{}, nil)
	require.ErrorContains(t, err, "there is no backup yesterday; there are "+second.Name())
	none, _ := local(t)
	_, err = backup.Restore(t.Context(), none, "", backup.Parts{}, nil)
	require.ErrorContains(t, err, "there is no backup there")
}

// What is damaged in a backup is found before anything stands on it.
func TestDamageIsFound(t *testing.T) {
	h := start(t)
	into, folder := local(t)
	made := h.backUp(t, into, 0)
	restore := func() error {
		blobs, _ := local(t)
		_, err := backup.Restore(t.Context(), into, "", backup.Parts{Database: empty(t, h.Database), Blobs: blobs},
			func(backup.Blob) {})
		return err
	}
	turn := func(name string) {
		path := filepath.Join(folder, filepath.FromSlash(name))
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		content[len(content)/2] ^= 1
		require.NoError(t, os.WriteFile(path, content, 0o600))
	}
	require.NoError(t, restore())
	turn(made.Blobs[0].Name)
	require.ErrorContains(t, restore(), "of the backup is damaged")
	turn(made.Blobs[0].Name)
	turn(made.Database.Name)
	require.ErrorContains(t, restore(), "the database of the backup is damaged")
}

// A chunk that is damaged already is named in the manifest and does not keep the others from their backup; so is a pack
// that is gone.
func TestWhatIsDamagedAlready(t *testing.T) {
	h := start(t)
	h.put(t, "a ferry ")
	into, _ := local(t)
	packs, err := filepath.Glob(h.folder + "/*/*")
	require.NoError(t, err)
	require.NotEmpty(t, packs)
	require.NoError(t, os.Remove(packs[0]))
	made := h.backUp(t, into, 0)
	require.Len(t, made.Lost, 1)
	require.Len(t, made.Blobs, 1)
}

// Of older backups only what the newer ones need stays; one that cannot be read costs itself, and keeps the blobs that
// it may need.
func TestPruneAndUnreadable(t *testing.T) {
	h := start(t)
	into, folder := local(t)
	first := h.backUp(t, into, 0)
	h.put(t, "a ferry ")
	second := h.backUp(t, into, 1)
	require.Equal(t, 1, second.Pruned)
	require.NoError(t, into.Put(t.Context(), "backup/20200101t000000z/manifest", bytes.NewReader([]byte("{"))))
	require.NoError(t, into.Put(t.Context(), "packs/stray", bytes.NewReader([]byte("x"))))
	list, err := backup.List(t.Context(), into)
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.NotEqual(t, first.Name(), list[0].Name())
	require.Error(t, list[1].Unreadable)
	require.Equal(t, "20200101t000000z", list[1].Name())
	_, err = backup.Restore(t.Context(), into, "20200101t000000z", backup.Parts{}, nil)
	require.ErrorContains(t, err, "cannot be read")
	third := h.backUp(t, into, 1)
	require.Equal(t, 1, third.Pruned)
	_, err = os.Stat(filepath.Join(folder, "packs", "stray"))
	require.NoError(t, err, "nobody knows whether the unreadable one needs it")
	_, err = os.Stat(filepath.Join(folder, "backup", second.Name(), "manifest"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestAway(t *testing.T) {
	into, _ := local(t)
	_, err := backup.Make(t.Context(), backup.Parts{Database: "postgres://127.0.0.1:1/x"}, into, "v1", 0, nil)
	require.ErrorContains(t, err, "connect to the database")
	list, err := backup.List(t.Context(), into)
	require.NoError(t, err)
	require.Empty(t, list, "half a backup is none")
}
