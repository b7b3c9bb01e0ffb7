package datasets

import (
	"bytes"
	"context"
	"encoding/json"
	"mime"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/service/act"
	"kembrel/store"
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
		err = dataset.ReadLines(bytes.NewReader(in.RawBody), columns, row.Rows, take)
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
