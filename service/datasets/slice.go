package datasets

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"kembrel/core/chunk"
	"kembrel/core/dataset/kept"
	"kembrel/service/act"
	"kembrel/service/work"
	"kembrel/store"
	"kembrel/store/pack"
)

// Storage is what this slice needs of the store.
type Storage interface {
	ClearDrafts(ctx context.Context) error
	DataUsers(ctx context.Context, seen store.Seen, snapshot int64, limit int) ([]store.DataUser, error)
	Draft(ctx context.Context, id string) (store.Draft, error)
	DraftBlocks(ctx context.Context, draft string) ([]store.DraftBlock, error)
	FindSplit(ctx context.Context, dataset string, pairs, keys, digests *chunk.Digest) ([]store.SplitAt, error)
	ListDatasets(ctx context.Context, name, after string, limit int) ([]store.Dataset, error)
	ListSnapshots(ctx context.Context, name string, below int64, limit int) ([]store.Snapshot, error)
	LeaseChunks(ctx context.Context, digests []chunk.Digest) error
	PutDraftBlock(ctx context.Context, draft string, b store.DraftBlock) error
	FindSnapshot(ctx context.Context, name string, number int) (store.Snapshot, error)
	SnapshotByID(ctx context.Context, id int64) (store.Snapshot, error)
	TestLooks(ctx context.Context, seen store.Seen, snapshot int64) ([]store.TestLook, error)
	TrySnapshot(ctx context.Context, id int64) error
	Unanswered(ctx context.Context) ([]int64, error)
	UntrySnapshot(ctx context.Context, id int64, failed string) error
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx
	AddDraft(ctx context.Context, d store.Draft) error
	AddSnapshot(ctx context.Context, n store.NewSnapshot) (at store.SnapshotAt, added bool,
		err error)
	AnswerSnapshot(ctx context.Context, id int64, answers json.RawMessage, marks []byte) (bool, error)
	EndDraft(ctx context.Context, draft string, snapshot int64) error
	MakeDataset(ctx context.Context, name string, person int64) (int64, error)
	UseChunks(ctx context.Context, digests []chunk.Digest) (map[chunk.Digest]int64, error)
}

// Datasets answers for datasets.
type Datasets struct {
	*act.Act
	db     Storage
	chunks *pack.Packs

	wake    chan struct{} // a snapshot was made
	looking sync.Mutex    // one is looked at at a time, which bounds memory
	work    *work.Work
	marks   *lru.Cache[int64, []kept.Found] // of the snapshots asked for lately
	files   *lru.Cache[int64, *kept.File]   // the same, each with a chunk of 4 MiB
	shared  *lru.Cache[sharedKey, int64]
}

// mostMaking bounds how many snapshots are sorted at once, mostMarks how many have their marks in memory.
const (
	mostMaking = 2
	mostMarks  = 8
)

// New makes the slice.
func New(a *act.Act, db Storage, chunks *pack.Packs, w *work.Work) *Datasets {
	marks, err := lru.New[int64, []kept.Found](mostMarks)
	if err != nil {
		panic(err) // of a constant
	}
	files, err := lru.New[int64, *kept.File](mostMarks)
	if err != nil {
		panic(err) // of a constant
	}
	shared, err := lru.New[sharedKey, int64](1000)
	if err != nil {
		panic(err) // of a constant
	}
	s := &Datasets{files: files, shared: shared, Act: a, db: db, chunks: chunks, wake: make(chan struct{}, 1),
		marks: marks, work: w}
	w.Kind(kind, mostMaking, s.take)
	return s
}

// lookPace is how often it is looked for snapshots that other replicas made and did not look at.
const lookPace = time.Minute
