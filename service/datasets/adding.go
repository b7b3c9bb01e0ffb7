package datasets

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"os"
	"slices"
	"strings"
	"syscall"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

// BeginDraft begins a snapshot, which is sent in blocks and then committed.
func (s *Datasets) BeginDraft(ctx context.Context, who act.Who, in *api.NewDraft) (*api.Draft, error) {
	if err := api.CheckDatasetName(in.Dataset); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "Idempotency-Key %.60q is not a UUID", in.Key)
	}
	if err := dataset.CheckColumns(in.Body.Columns); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if !slices.IsSortedFunc(in.Body.Columns,
		func(a, b dataset.OwnColumn) int { return strings.Compare(a.Name, b.Name) }) {
		return nil, api.Fail(api.Invalid,
			"columns of one's own come by name, so that the same items make the same snapshot")
	}
	var base *int
	var sets json.RawMessage
	if in.Body.Sets != nil && in.Body.Base == 0 {
		return nil, api.Fail(api.Invalid, "say which snapshot is changed (base)")
	}
	if in.Body.Base > 0 {
		if _, err := s.db.FindSnapshot(ctx, in.Dataset, in.Body.Base); err != nil {
			return nil, act.OrNotFound(err, "there is no snapshot %s#%d", in.Dataset, in.Body.Base)
		}
		base = &in.Body.Base
		if in.Body.Sets != nil {
			text, err := json.Marshal(in.Body.Sets)
			if err != nil {
				return nil, err
			}
			sets = text
		}
	}
	columns, err := json.Marshal(append([]dataset.OwnColumn{}, in.Body.Columns...))
	if err != nil {
		return nil, err
	}
	source := in.Body.Source
	source.Name, source.Host, source.Run = act.Clean(source.Name), act.Clean(source.Host), act.Clean(source.Run)
	source.Pattern = act.Clean(source.Pattern)
	made, err := json.Marshal(source)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		id, err := q.MakeDataset(ctx, in.Dataset, who.ID)
		if err != nil {
			return err
		}
		return q.AddDraft(ctx, store.Draft{ID: in.Key, Dataset: id, Person: who.ID, Columns: columns,
			Rows:   in.Body.Rows,
			Source: made, Base: base, Sets: sets})
	})
	if err != nil {
		return nil, err
	}
	_, out, err := s.draft(ctx, who, api.DraftInput{DatasetInput: in.DatasetInput, Draft: in.Key})
	return out, err
}

// draft finds a draft of whoever asks.
func (s *Datasets) draft(ctx context.Context, who act.Who, in api.DraftInput) (store.Draft, *api.Draft, error) {
	if _, err := uuid.Parse(in.Draft); err != nil {
		return store.Draft{}, nil, api.Fail(api.Invalid, "%.60q is not a UUID", in.Draft)
	}
	row, err := s.db.Draft(ctx, in.Draft)
	if err == nil && (row.Name != in.Dataset || row.Person != who.ID && !who.Administrator) {
		err = store.ErrNone
	}
	if err != nil {
		return row, nil, act.OrNotFound(err,
			"there is no such draft of %s; one that was begun two days ago is gone, and one of another is not yours",
			in.Dataset)
	}
	out := &api.Draft{ID: row.ID, Dataset: row.Name, Blocks: row.Blocks, Items: row.Items}
	if row.Snapshot != nil {
		snapshot, err := s.db.SnapshotByID(ctx, *row.Snapshot)
		if err != nil {
			return row, nil, err
		}
		out.Snapshot = address(snapshot)
	}
	return row, out, nil
}

// GetDraft says how far a draft is.
func (s *Datasets) GetDraft(ctx context.Context, who act.Who, in *api.DraftInput) (*api.Draft, error) {
	_, out, err := s.draft(ctx, who, *in)
	return out, err
}

// mostNamed is how many bad items of a block are named.
const mostNamed = 10

// PutBlock takes a block of items of a draft. A block of a number that is here takes its place.
func (s *Datasets) PutBlock(ctx context.Context, who act.Who, in *api.BlockInput) (*api.Draft, error) {
	row, out, err := s.draft(ctx, who, in.DraftInput)
	if err != nil {
		return nil, err
	}
	if row.Snapshot != nil {
		return nil, api.Fail(api.Conflict, "the draft is %s already", out.Snapshot)
	}
	var columns []dataset.OwnColumn
	if err := json.Unmarshal(row.Columns, &columns); err != nil {
		return nil, err
	}
	var items []dataset.Item
	var bad []string
	count := 0
	take := func(it *dataset.Item) error {
		slices.Sort(it.Labels)
		if err := it.Check(columns); err != nil {
			if count++; len(bad) < mostNamed {
				bad = append(bad, err.Error())
			}
			return nil
		}
		items = append(items, *it)
		return nil
	}
	if kind, _, _ := mime.ParseMediaType(in.Type); kind == "application/x-ndjson" || kind == "application/jsonl" {
		err = readLines(in.RawBody, columns, take)
	} else {
		err = dataset.DecodeBlock(in.RawBody, len(columns), take)
	}
	switch {
	case err != nil:
		return nil, api.Fail(api.Invalid, "block %d: %v", in.Block, err)
	case count > 0:
		return nil, api.Fail(api.Invalid, "block %d: %s are not acceptable: %s", in.Block,
			act.Many(count, "item", "items"), strings.Join(bad, "; "))
	case len(items) == 0:
		return nil, api.Fail(api.Invalid, "block %d has no items", in.Block)
	}
	encoded := dataset.EncodeBlock(items)
	if len(encoded) > chunk.MaxSize {
		return nil, api.Fail(api.TooLarge, "block %d has %s; send at most %s, in more blocks", in.Block,
			api.Bytes(int64(len(encoded))), api.Bytes(chunk.MaxSize))
	}
	digest := chunk.Sum(encoded)
	if err := s.chunks.Put(ctx, digest, encoded); err != nil {
		return nil, err
	}
	if err := s.chunks.Flush(ctx); err != nil {
		return nil, err
	}
	if err := s.db.LeaseChunks(ctx, []chunk.Digest{digest}); err != nil {
		return nil, err
	}
	if err := s.db.PutDraftBlock(ctx, row.ID, store.DraftBlock{Number: in.Block, Digest: digest[:],
		Items: len(items)}); err != nil {
		return nil, err
	}
	return out, nil
}

// line is an item as JSON Lines have it.
type line struct {
	Key    string                     `json:"key"`
	Digest string                     `json:"digest"`
	Size   int64                      `json:"size"`
	Split  string                     `json:"split"`
	Group  string                     `json:"group"`
	Label  any                        `json:"label"` // text, number, or a list of texts
	Blank  bool                       `json:"blank"`
	Own    map[string]json.RawMessage `json:"own"`
}

// readLines reads items as JSON Lines.
func readLines(body []byte, columns []dataset.OwnColumn, take func(*dataset.Item) error) error {
	scanner := bufio.NewScanner(bytes.NewReader(body))
	scanner.Buffer(make([]byte, 1<<16), len(body)+1)
	for n := 1; scanner.Scan(); n++ {
		if len(bytes.TrimSpace(scanner.Bytes())) == 0 {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(scanner.Bytes()))
		d.DisallowUnknownFields()
		var l line
		if err := d.Decode(&l); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		it, err := l.item(columns)
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		if err := take(it); err != nil {
			return err
		}
	}
	return scanner.Err()
}

func (l *line) item(columns []dataset.OwnColumn) (*dataset.Item, error) {
	it := &dataset.Item{Key: l.Key, Size: l.Size, Split: l.Split, Group: l.Group, Blank: l.Blank, Target: math.NaN(),
		Own: make([]any, len(columns))}
	var err error
	if l.Digest != "" {
		if it.Digest, err = chunk.ParseDigest(l.Digest); err != nil {
			return nil, err
		}
	}
	switch v := l.Label.(type) {
	case nil:
	case string:
		if v != "" {
			it.Labels = []string{v}
		}
	case float64:
		it.Target = v
	case []any:
		for _, x := range v {
			text, ok := x.(string)
			if !ok {
				return nil, fmt.Errorf("item %.100q: labels are texts, not %v", l.Key, x)
			}
			it.Labels = append(it.Labels, text)
		}
	default:
		return nil, fmt.Errorf("item %.100q: a label is a text, a number or a list of texts", l.Key)
	}
	for name, raw := range l.Own {
		i := slices.IndexFunc(columns, func(c dataset.OwnColumn) bool { return c.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("item %.100q: the draft has no column %q", l.Key, name)
		}
		if err := json.Unmarshal(raw, &it.Own[i]); err != nil {
			return nil, err
		}
		switch it.Own[i].(type) {
		case nil, string, float64, bool:
		default:
			return nil, fmt.Errorf("item %.100q: column %s is a %s, and %.60s is none", l.Key, name,
				columns[i].Kind, raw)
		}
	}
	if l.Digest == "" && l.Size == 0 { // a row
		it.Digest = dataset.RowDigest(it.Labels, it.Target, columns, it.Own)
		it.Size = int64(len(dataset.EncodeBlock([]dataset.Item{*it})))
	}
	return it, nil
}

// onDisk is a scratch file that goes when it is closed.
type onDisk struct{ *os.File }

func (f onDisk) Close() error { return errors.Join(f.File.Close(), os.Remove(f.Name())) }

func scratch() (kept.Scratch, error) {
	f, err := os.CreateTemp("", "kembrel-items-")
	return onDisk{f}, err
}

// CommitDraft makes a snapshot of the blocks of a draft: whole or not at all. The same items as those of a snapshot
// that is there are that snapshot.
func (s *Datasets) CommitDraft(ctx context.Context, who act.Who, in *api.CommitInput) (*api.Snapshot, error) {
	row, _, err := s.draft(ctx, who, in.DraftInput)
	if err != nil {
		return nil, err
	}
	if row.Snapshot != nil {
		return s.snapshotByID(ctx, *row.Snapshot, true)
	}
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
	select {
	case s.making <- struct{}{}:
		defer func() { <-s.making }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	made, err := s.make(ctx, row, blocks)
	var double *kept.ErrKeys
	var wrong *dataset.ErrItem
	if errors.As(err, &double) || errors.As(err, &wrong) {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if errors.Is(err, syscall.ENOSPC) {
		return nil, api.Fail(api.NoRoom, "there is no room in %s to sort the items of the snapshot", os.TempDir())
	}
	if err != nil {
		return nil, err
	}
	var at store.SnapshotAt
	var added bool
	err = s.db.InTx(ctx, func(q Tx) error {
		if at, added, err = q.AddSnapshot(ctx, *made.snapshot); err != nil {
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
		if err := q.EndDraft(ctx, row.ID, at.ID); err != nil || !added {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "snapshot", Verb: "made", Person: who.ID,
			Subject: api.DataAddress{Dataset: row.Name, Number: at.Number}.String(),
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
	return s.snapshotByID(ctx, at.ID, !added)
}

// made is a snapshot that is ready to be committed.
type made struct {
	snapshot *store.NewSnapshot
	holds    []chunk.Digest // chunks of its file and of the items that are kept, each once, in order
}

// make sorts the blocks of a draft and keeps the file of their snapshot.
func (s *Datasets) make(ctx context.Context, row store.Draft, blocks []store.DraftBlock) (*made, error) {
	var columns []dataset.OwnColumn
	if err := json.Unmarshal(row.Columns, &columns); err != nil {
		return nil, err
	}
	sorter := kept.NewSorter(len(columns), scratch)
	defer sorter.Close()
	for _, b := range blocks {
		data, err := s.chunks.Get(ctx, chunk.Digest(b.Digest))
		if errors.Is(err, pack.ErrNone) || errors.Is(err, pack.ErrMissing) || errors.Is(err, pack.ErrDamaged) {
			return nil, api.Fail(api.Conflict, "block %d is not here any more; send it again", b.Number)
		} else if err != nil {
			return nil, err
		}
		if err := dataset.DecodeBlock(data, len(columns), sorter.Add); err != nil {
			return nil, err
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
	}
	each := sorter.Each
	if row.Sets != nil {
		var sets dataset.Sets
		if err := json.Unmarshal(row.Sets, &sets); err != nil {
			return nil, err
		}
		before, err := s.db.FindSnapshot(ctx, row.Name, deref(row.Base))
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
	sum, err := kept.Write(file, columns, func(add func(*dataset.Item) error) error {
		return each(func(it *dataset.Item) error {
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
	m := &made{snapshot: out}
	for d := range held {
		m.holds = append(m.holds, d)
	}
	slices.SortFunc(m.holds, func(a, b chunk.Digest) int { return bytes.Compare(a[:], b[:]) })
	return m, nil
}

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
