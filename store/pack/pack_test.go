package pack

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/store/blob"
	"kembrel/test/buckets"
)

// kept is an index in memory, as the database holds it.
type kept struct {
	mutex  sync.Mutex
	places map[chunk.Digest]Place
	bad    map[chunk.Digest]Mark
	away   bool
}

func (k *kept) Places(_ context.Context, digests []chunk.Digest) (map[chunk.Digest]Place, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	out := map[chunk.Digest]Place{}
	for _, d := range digests {
		if p, ok := k.places[d]; ok {
			p.Bad = k.bad[d]
			out[d] = p
		}
	}
	return out, nil
}

func (k *kept) AddPlaces(_ context.Context, entries []Entry) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if k.away {
		return errors.New("the database is away")
	}
	for _, e := range entries {
		if e.Moved {
			if old, ok := k.places[e.Digest]; ok && old.Pack == e.From {
				k.places[e.Digest] = e.Place
			}
			continue
		}
		if _, ok := k.places[e.Digest]; !ok || k.bad[e.Digest] != Sound {
			k.places[e.Digest] = e.Place
			delete(k.bad, e.Digest)
		}
	}
	return nil
}

func (k *kept) Mark(_ context.Context, d chunk.Digest, _ Place, mark Mark) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	k.bad[d] = mark
	return nil
}

var ctx = context.Background()

func opened(t *testing.T, place string, k *kept) *Packs {
	blobs, err := blob.Open(ctx, place)
	require.NoError(t, err)
	return New(blobs, k)
}

func some(r *rand.Rand, n int) ([]byte, chunk.Digest) {
	var data []byte
	for len(data) < n {
		data = binary.LittleEndian.AppendUint32(data, math.Float32bits(float32(r.NormFloat64())))
	}
	return data, chunk.Sum(data)
}

func newKept() *kept {
	return &kept{places: map[chunk.Digest]Place{}, bad: map[chunk.Digest]Mark{}}
}

// Chunks put by many at once, while others flush, come back; what was flushed is there in another process.
// everywhere runs a test on a store on disk and on one in a bucket.
func everywhere(t *testing.T, test func(t *testing.T, place string)) {
	t.Run("disk", func(t *testing.T) { test(t, t.TempDir()) })
	t.Run("bucket", func(t *testing.T) { test(t, buckets.New(t, "kembrel")) })
}

func TestPutFlushGet(t *testing.T) { everywhere(t, testPutFlushGet) }

func testPutFlushGet(t *testing.T, folder string) {
	k := newKept()
	p := opened(t, folder, k)
	var wait sync.WaitGroup
	var mutex sync.Mutex
	all := map[chunk.Digest][]byte{}
	for w := range 6 {
		wait.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w/2), 1)) // two of them put the same
			for range 40 {
				data, d := some(r, 1+r.IntN(200_000))
				if err := p.Put(ctx, d, data); err != nil {
					t.Error(err)
				}
				mutex.Lock()
				all[d] = data
				mutex.Unlock()
				if r.IntN(5) == 0 {
					if err := p.Flush(ctx); err != nil {
						t.Error(err)
					}
				}
			}
		})
	}
	wait.Wait()
	require.NoError(t, p.Flush(ctx))
	require.NoError(t, p.Close(ctx))
	p = opened(t, folder, k)
	require.Len(t, k.places, 120)
	for d, data := range all {
		got, err := p.Get(ctx, d)
		require.NoError(t, err)
		require.True(t, bytes.Equal(data, got))
	}
	size, stored := 0, 0
	for _, place := range k.places {
		size, stored = size+place.Size, stored+place.Stored
	}
	require.Less(t, stored, size*95/100, "they are packed")
	_, err := p.Get(ctx, chunk.Sum([]byte("none")))
	require.ErrorIs(t, err, ErrNone)
}

// What is away for a moment is missing, not damaged: each reading looks again, and one that is right takes the mark
// away; so does the check, which reads packs in large stretches.
func TestAwayForAMoment(t *testing.T) {
	folder, k := t.TempDir(), newKept()
	p := opened(t, folder, k)
	r := rand.New(rand.NewPCG(11, 2))
	var entries []Entry
	all := map[chunk.Digest][]byte{}
	for range 40 {
		data, d := some(r, 20_000)
		require.NoError(t, p.Put(ctx, d, data))
		all[d] = data
	}
	require.NoError(t, p.Close(ctx))
	for d := range all {
		entries = append(entries, Entry{Digest: d, Place: k.places[d]})
	}
	slices.SortFunc(entries, func(a, b Entry) int { return cmp.Compare(a.At, b.At) })
	check := func() (wrong int) {
		places, err := p.Places(ctx, slices.Collect(maps.Keys(all)))
		require.NoError(t, err)
		for i := range entries {
			entries[i].Place = places[entries[i].Digest]
		}
		require.NoError(t, p.Check(ctx, entries, func(_ Entry, why error) error {
			if why != nil {
				require.ErrorIs(t, why, ErrMissing)
				require.NotErrorIs(t, why, ErrDamaged)
				wrong++
			}
			return nil
		}))
		return wrong
	}
	require.Zero(t, check())
	require.NoError(t, os.Rename(filepath.Join(folder, "pack"), filepath.Join(folder, "elsewhere")))
	require.Equal(t, 40, check())
	lost, err := p.Lost(ctx, k.places)
	require.NoError(t, err)
	require.Len(t, lost, 40)
	for d := range all {
		require.Equal(t, Missing, k.bad[d])
	}
	require.NoError(t, os.Rename(filepath.Join(folder, "elsewhere"), filepath.Join(folder, "pack")))
	one := entries[0].Digest
	got, err := p.Get(ctx, one)
	require.NoError(t, err)
	require.Equal(t, all[one], got)
	require.Equal(t, Sound, k.bad[one], "a reading that is right takes the mark away")
	require.Zero(t, check())
	for d := range all {
		require.Equal(t, Sound, k.bad[d])
	}
}

// In a bucket twenty small checkpoints cost no question each about every pack, and a check reads packs in large
// stretches.
func TestFewRequests(t *testing.T) {
	var heads, gets atomic.Int64
	k := newKept()
	p := opened(t, buckets.New(t, "kembrel", func(inner http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch r.Method {
			case http.MethodHead:
				heads.Add(1)
			case http.MethodGet:
				gets.Add(1)
			}
			inner.ServeHTTP(w, r)
		})
	}), k)
	r := rand.New(rand.NewPCG(12, 2))
	heads.Store(0)
	var all []chunk.Digest
	for range 20 { // as the service does: ask what is missing, put it, make it safe, look whether all is there
		for range 5 {
			data, d := some(r, 30_000)
			require.NoError(t, p.Put(ctx, d, data))
			all = append(all, d)
		}
		require.NoError(t, p.Flush(ctx))
		places, err := p.Places(ctx, all)
		require.NoError(t, err)
		lost, err := p.Lost(ctx, places)
		require.NoError(t, err)
		require.Empty(t, lost)
	}
	require.LessOrEqual(t, heads.Load(), int64(20))
	var entries []Entry
	for d, place := range k.places {
		entries = append(entries, Entry{Digest: d, Place: place})
	}
	slices.SortFunc(entries, func(a, b Entry) int {
		return cmp.Or(strings.Compare(a.Pack, b.Pack),
			cmp.Compare(a.At, b.At))
	})
	gets.Store(0)
	require.NoError(t, p.Check(ctx, entries, func(_ Entry, why error) error { return why }))
	require.Len(t, entries, 100)
	require.LessOrEqual(t, gets.Load(), int64(20), "one for each pack")
}

// What was not flushed is not known after a crash; what could not be told to the index is told by the next flush; what
// is damaged is told, and healed by the next upload.
func TestCrashesAndDamage(t *testing.T) {
	folder, k := t.TempDir(), newKept()
	r := rand.New(rand.NewPCG(3, 3))
	p := opened(t, folder, k)
	lost, lostDigest := some(r, 5000)
	require.NoError(t, p.Put(ctx, lostDigest, lost))
	p = opened(t, folder, k) // as after a crash
	found, err := p.Places(ctx, []chunk.Digest{lostDigest})
	require.NoError(t, err)
	require.Empty(t, found)

	k.away = true
	data, d := some(r, 100_000)
	require.NoError(t, p.Put(ctx, d, data))
	require.ErrorContains(t, p.Close(ctx), "away")
	k.away = false
	require.NoError(t, p.Flush(ctx), "the pack is closed; the index is told")
	require.Contains(t, k.places, d)

	path := filepath.Join(folder, "pack", k.places[d].Pack)
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	at := k.places[d].At + int64(k.places[d].Stored)/2
	content[at] ^= 4
	require.NoError(t, os.WriteFile(path, content, 0o600))
	_, err = p.Get(ctx, d)
	require.ErrorIs(t, err, ErrDamaged)
	found, _ = p.Places(ctx, []chunk.Digest{d})
	require.Equal(t, Damaged, found[d].Bad, "so that it is sent again")
	require.NoError(t, p.Put(ctx, d, data))
	require.NoError(t, p.Flush(ctx))
	got, err := p.Get(ctx, d)
	require.NoError(t, err)
	require.Equal(t, data, got)
	for _, cut := range []int64{0, 10} {
		require.NoError(t, p.Close(ctx))
		require.NoError(t, os.Truncate(filepath.Join(folder, "pack", k.places[d].Pack), k.places[d].At+cut))
		_, err = p.Get(ctx, d)
		require.ErrorIs(t, err, ErrDamaged)
		require.NoError(t, p.Put(ctx, d, data))
		require.NoError(t, p.Flush(ctx))
	}
	require.NoError(t, os.Remove(filepath.Join(folder, "pack", k.places[d].Pack)))
	_, err = p.Get(ctx, d)
	require.ErrorIs(t, err, ErrMissing, "a pack is gone")
}

// A disk that takes no more hurts nothing that is safe, and what did not fit is not known.
func TestFullDisk(t *testing.T) {
	folder, k := t.TempDir(), newKept()
	blobs, err := blob.NewLocal(folder)
	require.NoError(t, err)
	small := &limited{Store: blobs, left: 150_000}
	p := New(small, k)
	r := rand.New(rand.NewPCG(4, 4))
	var safe []chunk.Digest
	var failed error
	var refused []byte
	var refusedDigest chunk.Digest
	for failed == nil {
		data, d := some(r, 40_000)
		if failed = p.Put(ctx, d, data); failed == nil {
			require.NoError(t, p.Flush(ctx))
			safe = append(safe, d)
		} else {
			refused, refusedDigest = data, d
		}
	}
	require.NotEmpty(t, safe)
	require.ErrorContains(t, failed, "no space")
	found, err := p.Places(ctx, []chunk.Digest{refusedDigest})
	require.NoError(t, err)
	require.Empty(t, found)
	small.left = 1 << 30 // there is room again
	require.NoError(t, p.Flush(ctx))
	require.NoError(t, p.Put(ctx, refusedDigest, refused))
	require.NoError(t, p.Flush(ctx))
	for _, d := range append(safe, refusedDigest) {
		_, err := p.Get(ctx, d)
		require.NoError(t, err)
	}
}

// limited is a disk that has so many bytes left.
type limited struct {
	blob.Store
	left int
}

type limitedFile struct {
	blob.Appending
	disk *limited
}

func (l *limited) Append(name string) (blob.Appending, error) {
	a, err := l.Store.Append(name)
	return &limitedFile{a, l}, err
}

func (f *limitedFile) WriteAt(b []byte, at int64) (int, error) {
	if f.disk.left -= len(b); f.disk.left < 0 {
		n, _ := f.Appending.WriteAt(b[:len(b)/2], at)
		return n, fmt.Errorf("no space left on device")
	}
	return f.Appending.WriteAt(b, at)
}
