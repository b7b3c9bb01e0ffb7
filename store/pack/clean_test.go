package pack

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/chunk"
	"kembrel/store/blob"
)

// LivePacks and ChunksOf make kept an index that can be cleaned by.
func (k *kept) LivePacks(context.Context) (map[string]Live, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	out := map[string]Live{}
	for _, p := range k.places {
		l := out[p.Pack]
		out[p.Pack] = Live{l.Chunks + 1, l.Stored + int64(p.Stored)}
	}
	delete(out, "")
	return out, nil
}

func (k *kept) ChunksOf(_ context.Context, name string) (out []Entry, err error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	for d, p := range k.places {
		if p.Pack == name && k.bad[d] == Sound {
			out = append(out, Entry{Digest: d, Place: p})
		}
	}
	return out, nil
}

// Hundreds of times: uploads, drops and cleanings run beside each other and are cut off at any moment, as by a kill;
// whatever was committed and not dropped comes back, and in the end the disk holds little more.
func TestCleaningBesideUploadsWithKills(t *testing.T) {
	everywhere(t, testCleaningBesideUploadsWithKills)
}

func testCleaningBesideUploadsWithKills(t *testing.T, folder string) {
	k := newKept()
	r := rand.New(rand.NewPCG(8, 8))
	type held struct {
		digest chunk.Digest
		data   []byte
	}
	var mutex sync.Mutex
	committed := map[chunk.Digest][]byte{}
	for range 120 {
		p := opened(t, folder, k)
		before := map[string]bool{} // packs of earlier processes, which nobody writes: in life their age tells
		require.NoError(t, p.blobs.List(ctx, "pack/", func(name string, _ int64) error {
			before[name] = true
			return nil
		}))
		live, kill := context.WithCancel(ctx)
		var wait sync.WaitGroup
		for range 2 {
			seed := r.Uint64()
			wait.Go(func() {
				r := rand.New(rand.NewPCG(seed, 2))
				for live.Err() == nil {
					var batch []held
					for range 1 + r.IntN(4) {
						data, d := some(r, 1000+r.IntN(60_000))
						if p.Put(live, d, data) != nil {
							return
						}
						batch = append(batch, held{d, data})
					}
					if p.Flush(live) != nil {
						return
					}
					mutex.Lock()
					for _, h := range batch {
						committed[h.digest] = h.data
					}
					mutex.Unlock()
				}
			})
		}
		wait.Go(func() {
			for live.Err() == nil {
				mutex.Lock()
				k.mutex.Lock()
				dropped := 0
				for d := range committed {
					if dropped++; dropped > len(committed)/3 {
						break
					}
					delete(committed, d)
					delete(k.places, d)
				}
				k.mutex.Unlock()
				mutex.Unlock()
				if _, err := cleanOf(live, p.blobs, before, k); err != nil && live.Err() == nil {
					t.Error(err)
				}
			}
		})
		time.Sleep(time.Duration(r.IntN(12)) * time.Millisecond)
		kill() // what is under way is cut off, and nothing of the process is closed
		wait.Wait()
		check := opened(t, folder, k)
		for d, data := range committed {
			got, err := check.Get(ctx, d)
			require.NoError(t, err)
			require.True(t, bytes.Equal(data, got))
		}
	}
	require.NotEmpty(t, committed)
	p := opened(t, folder, k)
	p.old = 0
	for range 2 {
		_, err := p.Clean(ctx, k)
		require.NoError(t, err)
		require.NoError(t, p.Close(ctx))
	}
	size, want := int64(0), 0
	require.NoError(t, p.blobs.List(ctx, "pack/", func(_ string, n int64) error { size += n; return nil }))
	for d, data := range committed {
		got, err := p.Get(ctx, d)
		require.NoError(t, err)
		require.True(t, bytes.Equal(data, got))
		want += len(data)
	}
	require.Less(t, size, int64(2*want+1_000_000), "what nobody holds is gone")
}

// cleanOf cleans some packs, whatever their age.
func cleanOf(ctx context.Context, blobs blob.Store, packs map[string]bool, k *kept) (Cleaned, error) {
	p := New(only{blobs, packs}, k)
	p.old = 0
	did, err := p.Clean(ctx, k)
	return did, errors.Join(err, p.Close(context.WithoutCancel(ctx)))
}

// only lists some blobs.
type only struct {
	blob.Store
	names map[string]bool
}

func (o only) List(ctx context.Context, prefix string, each func(name string, size int64) error) error {
	return o.Store.List(ctx, prefix, func(name string, size int64) error {
		if !o.names[name] {
			return nil
		}
		return each(name, size)
	})
}
