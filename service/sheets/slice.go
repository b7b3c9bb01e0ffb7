package sheets

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/curve"
	"kembrel/core/sheet"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/service/work"
	"kembrel/store"
	"kembrel/store/pack"
)

// Storage is what this slice needs of the store.
type Storage interface {
	FindSnapshot(ctx context.Context, dataset string, number int) (store.Snapshot, error)
	ListMarks(ctx context.Context, project int64, scope string, keys []string) ([]store.Mark, error)
	RunOf(ctx context.Context, run int64) (project int64, address string, err error)
	ListEvaluations(ctx context.Context, e store.EvaluationQuery) ([]store.Evaluation, error)
	ListSheets(ctx context.Context, s store.SheetQuery) ([]store.Sheet, error)
	RunData(ctx context.Context, runs []int64) ([]store.RunData, error)
	Scan(ctx context.Context, span store.Span, do func(string, []curve.Point, []float64) error) error
	NamesFiles(ctx context.Context, run, step, most int64) ([]store.NamesFile, error)
	SheetByID(ctx context.Context, run, id int64) (store.Sheet, error)
	SheetByKey(ctx context.Context, key string) (run int64, number int, err error)
	SheetFiles(ctx context.Context, run, id int64) ([]store.SheetFile, error)
	UncomparedSheets(ctx context.Context) ([]store.Uncompared, error)
	WholeSheets(ctx context.Context, s store.SheetQuery) ([]store.Sheet, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx
	act.Chunks
	AddSheet(ctx context.Context, n store.NewSheet) (number int, err error)
	ComparedSheet(ctx context.Context, run, id int64, had, alarms json.RawMessage, held []string, compared bool) (bool,
		error)
	MeasureEvaluation(ctx context.Context, run, id int64, measures json.RawMessage) error
	DropMark(ctx context.Context, project int64, scope, key string, person int64) error
	PutMark(ctx context.Context, project int64, scope string, m store.Mark) error
	SetAlarms(ctx context.Context, run int64) error
}

// Items finds items of snapshots by their keys, those whose bytes are kept, and counts those of a split that another,
// on which something was trained, has too.
type Items interface {
	SharedItems(ctx context.Context, of, in string) (int64, error)
	KeptItems(ctx context.Context, address string, keys []string) (map[string]api.ExampleItem, error)
}

// Sheets answers for prediction sheets.
type Sheets struct {
	*finding.Finder
	db     Storage
	chunks *pack.Packs
	items  Items

	asking chan struct{} // so many are opened at a time
	turns  *act.Turns    // of these, by person
	open   *opened
	work   *work.Work
}

// New makes the slice.
func New(f *finding.Finder, db Storage, chunks *pack.Packs, items Items, w *work.Work) *Sheets {
	s := &Sheets{Finder: f, db: db, chunks: chunks, items: items, work: w, open: newOpened(),
		asking: make(chan struct{}, mostAsking), turns: act.NewTurns(mostAsking-1, "large prediction sheets")}
	w.Kind(kind, 1, s.take)
	return s
}

// Limits of the sheets that were asked for lately.
const (
	mostOpen   = 96 << 20 // their bytes in memory, but for one that is larger than half of this
	keepLarge  = 5 * time.Minute
	mostAsking = 2 // sheets that are opened at a time
)

// opened are the sheets that were asked for lately, with what is found of them once. One large sheet is kept beside
// them as long as it is asked for, as opening it takes seconds.
type opened struct {
	mutex   sync.Mutex
	size    int64
	list    *lru.Cache[int64, *whole]
	largeID int64
	large   *whole
	drop    *time.Timer
}

// whole is a sheet in memory. It is not changed, but for what is found once.
type whole struct {
	*sheet.Sheet
	suspects func() map[int]int // places among the suspects, by row
	places   func() map[string]int
}

func newOpened() *opened {
	o := &opened{}
	list, err := lru.NewWithEvict(64, func(_ int64, w *whole) { o.size -= w.Bytes() })
	if err != nil {
		panic(err) // of a constant
	}
	o.list = list
	return o
}

func (o *opened) get(id int64) (*whole, bool) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if o.large != nil && o.largeID == id {
		o.drop.Reset(keepLarge)
		return o.large, true
	}
	return o.list.Get(id)
}

// put keeps a sheet.
func (o *opened) put(id int64, w *whole) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	if w.Bytes() > mostOpen/2 {
		if o.drop != nil {
			o.drop.Stop()
		}
		o.largeID, o.large = id, w
		o.drop = time.AfterFunc(keepLarge, func() {
			o.mutex.Lock()
			defer o.mutex.Unlock()
			if o.large == w {
				o.large = nil
			}
		})
		return
	}
	if o.list.Contains(id) {
		return
	}
	o.size += w.Bytes()
	o.list.Add(id, w)
	for o.size > mostOpen {
		o.list.RemoveOldest()
	}
}

// comparePace is how often sheets are held against curves that came later.
const comparePace = 2 * time.Second

// reader opens a file of a sheet. What is read of it does not end with the request.
func (s *Sheets) reader(ctx context.Context, name string, chunks []byte) (*pack.Reader, error) {
	pieces, err := chunk.Unpack(chunks)
	if err != nil {
		return nil, err
	}
	return s.chunks.NewReader(context.WithoutCancel(ctx), name, pieces), nil
}
