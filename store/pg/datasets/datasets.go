package datasets

import (
	"context"
	"encoding/json"

	"kembrel/core/chunk"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// MakeDataset finds a dataset by its name, and makes it where there is none.
func (q Queries) MakeDataset(ctx context.Context, name string, person int64) (int64, error) {
	if _, err := q.Exec(ctx, "dataset_make", db.A{"name": name, "person": person}); err != nil {
		return 0, err
	}
	return db.Value[int64](ctx, q, "dataset_id", db.A{"name": name})
}

// ListDatasets lists datasets that have a snapshot, by name, behind one; a name given lists only that one.
func (q Queries) ListDatasets(ctx context.Context, name, after string, limit int) ([]store.Dataset, error) {
	return db.List[store.Dataset](ctx, q, "dataset_list", db.A{"name": name, "after": after, "limit": limit})
}

// ListSnapshots lists those of a dataset below a number (0: all), the newest first.
func (q Queries) ListSnapshots(ctx context.Context, name string, below int64, limit int) ([]store.Snapshot, error) {
	return db.List[store.Snapshot](ctx, q, "snapshot_list", db.A{"name": name, "below": below, "limit": limit})
}

// FindSnapshot finds one by its number; 0: the newest.
func (q Queries) FindSnapshot(ctx context.Context, name string, number int) (store.Snapshot, error) {
	return db.One[store.Snapshot](ctx, q, "snapshot_one", db.A{"name": name, "number": number})
}

// SnapshotByID finds one.
func (q Queries) SnapshotByID(ctx context.Context, id int64) (store.Snapshot, error) {
	return db.One[store.Snapshot](ctx, q, "snapshot_by_id", db.A{"id": id})
}

// SnapshotSplits lists the splits of a snapshot.
func (q Queries) SnapshotSplits(ctx context.Context, snapshot int64) ([]store.SnapshotSplit, error) {
	return db.List[store.SnapshotSplit](ctx, q, "snapshot_splits", db.A{"snapshot": snapshot})
}

// AddSnapshot makes a snapshot, unless the dataset has one of the same items: it is then that one. It belongs in a
// transaction, with the chunks of its file counted as used.
func (q Queries) AddSnapshot(ctx context.Context, n store.NewSnapshot) (at store.SnapshotAt, added bool, err error) {
	if _, err := q.Exec(ctx, "dataset_lock", db.A{"dataset": n.Dataset}); err != nil {
		return at, false, err
	}
	same, err := db.One[store.SnapshotAt](ctx, q, "snapshot_same", db.A{"dataset": n.Dataset, "digest": n.Digest})
	if err == nil || !db.None(err) {
		return same, false, err
	}
	at, err = db.One[store.SnapshotAt](ctx, q, "snapshot_add",
		db.A{"dataset": n.Dataset, "digest": n.Digest, "items": n.Items,
			"bytes": n.Bytes, "kept": n.Kept, "columns": n.Columns, "rows": n.Rows, "source": n.Source, "base": n.Base,
			"person": n.Person, "size": n.Size, "file": n.File, "chunks": n.Chunks})
	if err != nil {
		return at, false, err
	}
	for _, s := range n.Splits {
		if _, err := q.Exec(ctx, "snapshot_split_add", db.A{"snapshot": at.ID, "name": s.Name, "items": s.Items,
			"bytes": s.Bytes, "kept": s.Kept, "keys": s.Keys, "digests": s.Digests, "pairs": s.Pairs}); err != nil {
			return at, false, err
		}
	}
	return at, true, nil
}

// Unanswered lists some snapshots that were not looked at yet.
func (q Queries) Unanswered(ctx context.Context) ([]int64, error) {
	return db.Values[int64](ctx, q, "snapshot_unanswered", db.A{})
}

// TrySnapshot notes that looking at a snapshot begins.
func (q Queries) TrySnapshot(ctx context.Context, id int64) error {
	_, err := q.Exec(ctx, "snapshot_try", db.A{"id": id})
	return err
}

// AnswerSnapshot keeps what was found; false: another did.
func (q Queries) AnswerSnapshot(ctx context.Context, id int64, answers json.RawMessage, marks []byte) (bool, error) {
	n, err := q.Exec(ctx, "snapshot_answer", db.A{"id": id, "answers": answers, "marks": marks})
	return n > 0, err
}

// UntrySnapshot notes that looking at a snapshot ended without answers, and why where it failed; "": it is to be tried
// again.
func (q Queries) UntrySnapshot(ctx context.Context, id int64, failed string) error {
	_, err := q.Exec(ctx, "snapshot_untried", db.A{"id": id, "failed": failed})
	return err
}

// FindSplit finds splits by their fingerprints (nil: not by that), those of a dataset first, then the latest first.
func (q Queries) FindSplit(ctx context.Context, dataset string, pairs, keys,
	digests *chunk.Digest) ([]store.SplitAt, error) {
	bytes := func(d *chunk.Digest) []byte {
		if d == nil {
			return nil
		}
		return d[:]
	}
	return db.List[store.SplitAt](ctx, q, "split_find", db.A{"dataset": dataset, "pairs": bytes(pairs),
		"keys":    bytes(keys),
		"digests": bytes(digests)})
}

// AddDraft begins a snapshot; one of the same id stays as it is.
func (q Queries) AddDraft(ctx context.Context, d store.Draft) error {
	_, err := q.Exec(ctx, "draft_add", db.A{"id": d.ID, "dataset": d.Dataset, "person": d.Person, "columns": d.Columns,
		"rows": d.Rows, "source": d.Source, "base": d.Base, "sets": d.Sets})
	return err
}

// Draft finds one.
func (q Queries) Draft(ctx context.Context, id string) (store.Draft, error) {
	return db.One[store.Draft](ctx, q, "draft_one", db.A{"id": id})
}

// PutDraftBlock notes a block; its number may come again.
func (q Queries) PutDraftBlock(ctx context.Context, draft string, b store.DraftBlock) error {
	_, err := q.Exec(ctx, "draft_block_put", db.A{"draft": draft, "number": b.Number, "digest": b.Digest,
		"items": b.Items})
	return err
}

// DraftBlocks lists the blocks of a draft by number.
func (q Queries) DraftBlocks(ctx context.Context, draft string) ([]store.DraftBlock, error) {
	return db.List[store.DraftBlock](ctx, q, "draft_blocks", db.A{"draft": draft})
}

// EndDraft says which snapshot a draft became. It belongs in the transaction that makes it.
func (q Queries) EndDraft(ctx context.Context, draft string, snapshot int64) error {
	if _, err := q.Exec(ctx, "draft_done", db.A{"id": draft, "snapshot": snapshot}); err != nil {
		return err
	}
	_, err := q.Exec(ctx, "draft_block_clear", db.A{"draft": draft})
	return err
}

// ClearDrafts forgets those begun long ago.
func (q Queries) ClearDrafts(ctx context.Context) error {
	_, err := q.Exec(ctx, "draft_clear", db.A{})
	return err
}

// PutRunData says what a run used for something, whatever was said before.
func (q Queries) PutRunData(ctx context.Context, d store.RunData) error {
	_, err := q.Exec(ctx, "run_data_put", db.A{"run": d.Run, "use": d.Use, "snapshot": d.Snapshot, "split": d.Split,
		"items": d.Items, "asked": d.Asked, "address": d.Address})
	return err
}

// RunData lists what some runs used: train, val, test, and then by name.
func (q Queries) RunData(ctx context.Context, runs []int64) ([]store.RunData, error) {
	return db.List[store.RunData](ctx, q, "run_data_list", db.A{"runs": runs})
}

// DataUsers lists runs that used a snapshot and that somebody sees, the newest first.
func (q Queries) DataUsers(ctx context.Context, seen store.Seen, snapshot int64, limit int) ([]store.DataUser, error) {
	return db.List[store.DataUser](ctx, q, "data_users", db.A{"snapshot": snapshot, "all": seen.All, "open": seen.Open,
		"keys": seen.Keys, "only": seen.Only, "limit": limit})
}

// TestLooks lists what was seen of a snapshot's test split, the first first; the project is "" where somebody does not
// see it.
func (q Queries) TestLooks(ctx context.Context, seen store.Seen, snapshot int64) ([]store.TestLook, error) {
	return db.List[store.TestLook](ctx, q, "test_looks", db.A{"snapshot": snapshot, "all": seen.All, "open": seen.Open,
		"keys": seen.Keys, "only": seen.Only})
}
