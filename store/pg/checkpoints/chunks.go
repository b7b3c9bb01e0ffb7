package checkpoints

import (
	"context"
	"time"

	"kembrel/core/chunk"
	"kembrel/store"
	"kembrel/store/pack"
	"kembrel/store/pg/db"
)

func packed(digests []chunk.Digest) [][]byte {
	out := make([][]byte, len(digests))
	for i := range digests {
		out[i] = digests[i][:]
	}
	return out
}

// placed is a row of chunks.
type placed struct {
	Digest       []byte
	Size, Stored int
	Pack         string
	At           int64
	Bad          string
}

func (p placed) place() pack.Place {
	return pack.Place{Pack: p.Pack, At: p.At, Stored: p.Stored, Size: p.Size, Bad: pack.Mark(p.Bad)}
}

// Places implements pack.Index.
func (q Queries) Places(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]pack.Place, error) {
	rows, err := db.List[placed](ctx, q, "chunk_places", db.A{"digests": packed(digests)})
	out := make(map[chunk.Digest]pack.Place, len(rows))
	for _, r := range rows {
		out[chunk.Digest(r.Digest)] = r.place()
	}
	return out, err
}

// columns of entries.
func entryColumns(entries []pack.Entry) db.A {
	n := len(entries)
	digests, sizes, packs, ats, storeds, olds := make([][]byte, n), make([]int, n), make([]string, n), make([]int64, n),
		make([]int, n), make([]string, n)
	for i, e := range entries {
		digests[i], sizes[i], packs[i], ats[i], storeds[i], olds[i] = e.Digest[:], e.Size, e.Pack,
			e.At, e.Stored, e.From
	}
	return db.A{"digests": digests, "sizes": sizes, "packs": packs, "ats": ats, "storeds": storeds, "olds": olds}
}

// AddPlaces implements pack.Index.
func (q Queries) AddPlaces(ctx context.Context, entries []pack.Entry) error {
	var added, moved []pack.Entry
	for _, e := range entries {
		if e.Moved {
			moved = append(moved, e)
		} else {
			added = append(added, e)
		}
	}
	if len(added) > 0 {
		args := entryColumns(added)
		delete(args, "olds")
		if _, err := q.Exec(ctx, "chunk_add", args); err != nil {
			return err
		}
	}
	if len(moved) > 0 {
		args := entryColumns(moved)
		delete(args, "sizes")
		if _, err := q.Exec(ctx, "chunk_move", args); err != nil {
			return err
		}
	}
	return nil
}

// Mark implements pack.Index.
func (q Queries) Mark(ctx context.Context, digest chunk.Digest, at pack.Place, mark pack.Mark) error {
	_, err := q.Exec(ctx, "chunk_mark", db.A{"digest": digest[:], "pack": at.Pack, "at": at.At, "bad": string(mark)})
	return err
}

// LeaseChunks keeps chunks that somebody was told of from being cleaned away for a while.
func (q Queries) LeaseChunks(ctx context.Context, digests []chunk.Digest) error {
	_, err := q.Exec(ctx, "chunk_lease", db.A{"digests": packed(digests)})
	return err
}

// UseChunks counts a checkpoint's chunks as used once more and returns the sizes of those that are here. It belongs in
// the transaction that adds the checkpoint.
func (q Queries) UseChunks(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]int64, error) {
	rows, err := db.List[struct {
		Digest []byte
		Size   int64
	}](ctx, q, "chunk_use", db.A{"digests": packed(digests)})
	out := make(map[chunk.Digest]int64, len(rows))
	for _, r := range rows {
		out[chunk.Digest(r.Digest)] = r.Size
	}
	return out, err
}

// ReleaseChunks counts the chunks of a checkpoint, or of all of a run (0), as used once less. It belongs in the
// transaction that takes the checkpoint's files away.
func (q Queries) ReleaseChunks(ctx context.Context, run, checkpoint int64) error {
	_, err := q.Exec(ctx, "chunk_release", db.A{"run": run, "checkpoint": checkpoint})
	return err
}

// CleanChunks forgets some chunks that no checkpoint holds and that nobody was told of for a time, and returns how
// many.
func (q Queries) CleanChunks(ctx context.Context, grace time.Duration) (int64, error) {
	return q.Exec(ctx, "chunk_clean", db.A{"grace": grace.Seconds()})
}

// LivePacks tells how much of each pack is known: bytes as stored, and chunks.
func (q Queries) LivePacks(ctx context.Context) (map[string]pack.Live, error) {
	rows, err := db.List[struct {
		Pack           string
		Chunks, Stored int64
	}](ctx, q, "pack_live", db.A{})
	out := make(map[string]pack.Live, len(rows))
	for _, r := range rows {
		out[r.Pack] = pack.Live{Chunks: r.Chunks, Stored: r.Stored}
	}
	return out, err
}

// ChunksOf lists some chunks of a pack ("": of the earlier form), in their order in it.
func (q Queries) ChunksOf(ctx context.Context, name string) ([]pack.Entry, error) {
	return q.entries(ctx, "pack_chunks", db.A{"pack": name})
}

// ChunkSlice lists some chunks behind a digest (nil: from the first), up to one (nil: to the last).
func (q Queries) ChunkSlice(ctx context.Context, after, upto []byte, limit int) ([]pack.Entry, error) {
	if after == nil {
		after = []byte{}
	}
	return q.entries(ctx, "chunk_slice", db.A{"after": after, "upto": upto, "limit": limit})
}

// ChunksBehind lists some chunks behind a place, in the order in which they lie, of a sample of a share of all.
func (q Queries) ChunksBehind(ctx context.Context, name string, at int64, digest []byte, share float64,
	limit int) ([]pack.Entry, error) {
	if digest == nil {
		digest = []byte{}
	}
	return q.entries(ctx, "chunk_behind", db.A{"pack": name, "at": at, "digest": digest,
		"share": int(share * 65536), "limit": limit})
}

func (q Queries) entries(ctx context.Context, query string, args db.A) ([]pack.Entry, error) {
	rows, err := db.List[placed](ctx, q, query, args)
	out := make([]pack.Entry, len(rows))
	for i, r := range rows {
		out[i] = pack.Entry{Digest: chunk.Digest(r.Digest), Place: r.place()}
	}
	return out, err
}

// Holders lists the checkpoints that hold a chunk. O(manifests).
func (q Queries) Holders(ctx context.Context, digest chunk.Digest) ([]store.Holder, error) {
	return db.List[store.Holder](ctx, q, "chunk_holders", db.A{"digest": digest[:]})
}

// ChunkTotals adds up all chunks.
func (q Queries) ChunkTotals(ctx context.Context) (store.ChunkTotals, error) {
	return db.One[store.ChunkTotals](ctx, q, "chunk_totals", db.A{})
}
