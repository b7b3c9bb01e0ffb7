package datasets

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/host"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

// onDisk is a scratch file that goes when it is closed.
type onDisk struct{ *os.File }

func (f onDisk) Close() error { return errors.Join(f.File.Close(), os.Remove(f.Name())) }

func scratch() (kept.Scratch, error) {
	f, err := os.CreateTemp("", "kembrel-items-")
	return onDisk{f}, err
}

// kind is what making a snapshot is called among the work that requests begin.
const kind = "snapshot"

// CommitDraft has a snapshot made of the blocks of a draft: whole or not at all. The same items as those of a snapshot
// that is there are that snapshot. A large one takes longer than a request may: then the answer is that it is being
// made, and the same request again returns the result.
func (s *Datasets) CommitDraft(ctx context.Context, who act.Who, in *api.CommitInput) (*api.Snapshot, error) {
	row, _, err := s.draft(ctx, who, in.DraftInput)
	if err != nil {
		return nil, err
	}
	if row.Snapshot == nil {
		if _, err := s.announced(ctx, row, in); err != nil {
			return nil, err
		}
	}
	request, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	w, err := s.work.Request(ctx, store.Work{Key: row.ID, Kind: kind, Person: who.ID, Request: request})
	if err != nil {
		return nil, err
	}
	if w.Ended == nil {
		return &api.Snapshot{Dataset: row.Name, Items: row.Items, Columns: []dataset.OwnColumn{}, Rows: row.Rows,
			Who: w.Who, Created: w.Created, State: api.Making, Progress: w.Progress}, nil
	}
	var made outcome
	if err := json.Unmarshal(w.Result, &made); err != nil {
		return nil, err
	}
	out, err := s.snapshotByID(ctx, made.ID, made.Existed)
	if err == nil {
		out.Again = made.Again
	}
	return out, err
}

// announced are the blocks of a draft, if they are those that were announced.
func (s *Datasets) announced(ctx context.Context, row store.Draft, in *api.CommitInput) ([]store.DraftBlock, error) {
	blocks, err := s.db.DraftBlocks(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	if len(blocks) != in.Body.Blocks || blocks[len(blocks)-1].Number != len(blocks) || row.Items != in.Body.Items {
		return nil, api.Fail(api.Conflict,
			"%s with %s were announced, and %s with %s are here; send those that are missing",
			act.Many(in.Body.Blocks, "block", "blocks"), act.Many(int(in.Body.Items), "item", "items"),
			act.Many(len(blocks), "block", "blocks"), act.Many(int(row.Items), "item", "items"))
	}
	if row.Items > dataset.MaxItems {
		return nil, api.Fail(api.TooLarge, "a snapshot has at most %d items", dataset.MaxItems)
	}
	return blocks, nil
}

// outcome is what became of a draft.
type outcome struct {
	ID      int64 `json:"id"`                // of the snapshot
	Existed bool  `json:"existed,omitempty"` // the same items were a snapshot before
	Again   int64 `json:"again,omitempty"`   // items that came more than once, and count once
}

// take makes a snapshot of a draft.
func (s *Datasets) take(ctx context.Context, w store.Work, at func(float64)) (any, error) {
	var in api.CommitInput
	if err := json.Unmarshal(w.Request, &in); err != nil {
		return nil, err
	}
	row, err := s.db.Draft(ctx, in.Draft)
	if err != nil {
		return nil, act.OrNotFound(err, "the draft is gone: it was begun more than two days ago")
	}
	if row.Snapshot != nil { // it is long made, or who made it ended before the work did
		return outcome{ID: *row.Snapshot, Existed: true}, nil
	}
	blocks, err := s.announced(ctx, row, &in)
	if err != nil {
		return nil, err
	}
	made, err := s.make(ctx, row, blocks, at)
	var double *kept.ErrKeys
	var wrong *dataset.ErrItem
	if errors.As(err, &double) || errors.As(err, &wrong) {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if host.NoRoom(err) {
		return nil, api.Fail(api.NoRoom, "there is no room in %s to sort the items of the snapshot", os.TempDir())
	}
	if err != nil {
		return nil, err
	}
	if made.same != nil {
		return outcome{*made.same, true, made.again},
			s.db.InTx(ctx, func(q Tx) error { return q.EndDraft(ctx, row.ID, *made.same) })
	}
	var now store.SnapshotAt
	var added bool
	err = s.db.InTx(ctx, func(q Tx) error {
		if now, added, err = q.AddSnapshot(ctx, *made.snapshot); err != nil {
			return err
		}
		if added {
			for part := range slices.Chunk(made.holds, 5000) {
				got, err := q.UseChunks(ctx, part)
				if err != nil {
					return err
				}
				if len(got) != len(part) {
					return api.Fail(api.Conflict, "%d chunks of the snapshot are not here any more; send it again",
						len(part)-len(got))
				}
			}
		}
		if err := q.EndDraft(ctx, row.ID, now.ID); err != nil || !added {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "snapshot", Verb: "made", Person: w.Person,
			Subject: api.DataAddress{Dataset: row.Name, Number: now.Number}.String(),
			Data: map[string]any{"items": made.snapshot.Items,
				"digest": chunk.Digest(made.snapshot.Digest).String()}})
	})
	if err != nil {
		return nil, err
	}
	select {
	case s.wake <- struct{}{}:
	default:
	}
	return outcome{now.ID, !added, made.again}, nil
}

// made is a snapshot that is ready to be committed.
type made struct {
	snapshot *store.NewSnapshot
	holds    []chunk.Digest // chunks of its file and of the items that are kept, each once, in order
	same     *int64         // the snapshot that has these items already, as far as they tell; nil: none
	again    int64          // items that came more than once, and count once
}

// sorted are the items of a draft by key. Those that a program handed over may come more than once.
func (s *Datasets) sorted(ctx context.Context, columns int, blocks []store.DraftBlock, handed bool,
	at func(float64)) (out *kept.Sorter, again int64, err error) {
	sorter := kept.NewSorter(columns, scratch)
	defer func() {
		if err != nil {
			sorter.Close()
		}
	}()
	for i, b := range blocks {
		at(float64(i) / float64(len(blocks)))
		data, err := s.chunks.Get(ctx, chunk.Digest(b.Digest))
		if errors.Is(err, pack.ErrNone) || errors.Is(err, pack.ErrMissing) || errors.Is(err, pack.ErrDamaged) {
			return nil, 0, api.Fail(api.Conflict, "block %d is not here any more; send it again", b.Number)
		} else if err != nil {
			return nil, 0, err
		}
		if err := dataset.DecodeBlock(data, columns, sorter.Add); err != nil {
			return nil, 0, err
		}
		if err := ctx.Err(); err != nil {
			return nil, 0, err
		}
	}
	if !handed {
		return sorter, 0, nil
	}
	apart := kept.NewSorter(columns, scratch)
	if again, err = sorter.Apart(apart); err != nil {
		apart.Close()
		return nil, 0, err
	}
	return apart, again, sorter.Close()
}

// make sorts the blocks of a draft and keeps the file of their snapshot.
func (s *Datasets) make(ctx context.Context, row store.Draft, blocks []store.DraftBlock,
	at func(float64)) (*made, error) {
	var columns []dataset.OwnColumn
	if err := json.Unmarshal(row.Columns, &columns); err != nil {
		return nil, err
	}
	var source api.SnapshotSource
	if err := json.Unmarshal(row.Source, &source); err != nil {
		return nil, err
	}
	handed := source.Kind == "program" && row.Sets == nil
	m := &made{}
	sorter, again, err := s.sorted(ctx, len(columns), blocks, handed,
		func(share float64) { at(sortShare * share) })
	if err != nil {
		return nil, err
	}
	defer sorter.Close()
	m.again = again
	each := sorter.Each
	if row.Sets != nil {
		var sets dataset.Sets
		if err := json.Unmarshal(row.Sets, &sets); err != nil {
			return nil, err
		}
		before, err := s.db.FindSnapshot(ctx, row.Name, act.Deref(row.Base))
		if err != nil {
			return nil, err
		}
		base, err := s.open(ctx, before)
		if err != nil {
			return nil, err
		}
		own := columns
		columns = dataset.ChangedColumns(base.Columns, own)
		if err := dataset.CheckColumns(columns); err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
		if row.Columns, err = json.Marshal(columns); err != nil {
			return nil, err
		}
		row.Rows = before.Rows
		each = func(add func(*dataset.Item) error) error {
			return kept.Apply(base, sorter.Each, own, sets, add)
		}
	}
	held := map[chunk.Digest]bool{}
	file, err := os.CreateTemp("", "kembrel-snapshot-")
	if err != nil {
		return nil, err
	}
	defer onDisk{file}.Close()
	written := 0
	sum, err := kept.Write(file, columns, func(add func(*dataset.Item) error) error {
		return each(func(it *dataset.Item) error {
			if written++; written%10_000 == 0 {
				if err := ctx.Err(); err != nil {
					return err
				}
				at(sortShare + (writeShare-sortShare)*min(1, float64(written)/float64(row.Items)))
			}
			if err := hold(held, it); err != nil {
				return err
			}
			return add(it)
		})
	})
	if err != nil {
		return nil, err
	}
	if sum.Items == 0 {
		return nil, api.Fail(api.Invalid, "nothing would be left of the snapshot")
	}
	if handed {
		if m.same, err = s.agreeing(ctx, row.Name, sum, sorter.Each); err != nil || m.same != nil {
			return m, err
		}
	}
	sorter.Close()
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	pieces, whole, err := s.chunks.Keep(ctx, file)
	if err != nil {
		return nil, err
	}
	if err := s.chunks.Flush(ctx); err != nil {
		return nil, err
	}
	out := &store.NewSnapshot{Dataset: row.Dataset, Person: row.Person, Digest: sum.Digest[:], Items: sum.Items,
		Bytes: sum.Bytes, Kept: sum.Kept, Columns: row.Columns, Rows: row.Rows, Source: row.Source, Base: row.Base,
		File: whole[:], Chunks: chunk.Pack(pieces)}
	for _, p := range pieces {
		held[p.Digest] = true
		out.Size += p.Size
	}
	for _, split := range sum.Splits {
		out.Splits = append(out.Splits, store.SnapshotSplit{Name: split.Name, Items: split.Items, Bytes: split.Bytes,
			Kept: split.Kept, Keys: split.Keys[:], Digests: split.Digests[:], Pairs: split.Pairs[:]})
	}
	m.snapshot = out
	for d := range held {
		m.holds = append(m.holds, d)
	}
	slices.SortFunc(m.holds, func(a, b chunk.Digest) int { return bytes.Compare(a[:], b[:]) })
	return m, nil
}

// sortShare is the part of making a snapshot that sorting its items takes, and writeShare what has been done when its
// file is written.
const (
	sortShare  = 0.5
	writeShare = 0.95
)

// hold notes the chunks of an item whose bytes are kept.
func hold(held map[chunk.Digest]bool, it *dataset.Item) error {
	if !it.Kept || it.Size == 0 {
		return nil
	}
	if len(it.Pieces) == 0 {
		held[it.Digest] = true
		return nil
	}
	pieces, err := chunk.Unpack(it.Pieces)
	if err != nil {
		return err
	}
	size := int64(0)
	for _, p := range pieces {
		held[p.Digest] = true
		size += p.Size
	}
	if size != it.Size {
		return &dataset.ErrItem{Key: it.Key, What: fmt.Sprintf("it has %d bytes and chunks of %d", it.Size, size)}
	}
	return nil
}

// mostAgreeing is how many snapshots are looked through for items that a program handed over.
const mostAgreeing = 4

// agreeing is the latest snapshot of a dataset that has the items that a program handed over, as far as they tell: one
// that was made from a folder has sizes and columns that no program tells, and is the same data all the same.
func (s *Datasets) agreeing(ctx context.Context, name string, sum *kept.Sum,
	each func(func(*dataset.Item) error) error) (*int64, error) {
	first := sum.Splits[0]
	found, err := s.db.FindSplit(ctx, name, nil, &first.Keys, nil)
	if err != nil {
		return nil, err
	}
	tried := 0
	for _, at := range found {
		if at.Dataset != name || at.Split != first.Name {
			continue
		}
		if tried++; tried > mostAgreeing {
			break
		}
		row, err := s.db.SnapshotByID(ctx, at.Snapshot)
		if err != nil {
			return nil, err
		}
		f, err := s.open(ctx, row)
		if err != nil {
			return nil, err
		}
		if same, err := kept.Agrees(each, f); err != nil || same {
			return &row.ID, err
		}
	}
	return nil, nil
}
