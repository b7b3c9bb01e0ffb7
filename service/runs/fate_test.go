package runs

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// due is a storage in which runs are due; what is done in a transaction counts when that ends without an error.
type due struct {
	Storage
	runs     []store.DueRun
	kept     map[int64]bool // brought back a moment before they would have been erased
	broken   map[int64]bool
	released []int64
	erased   []int64
	events   []store.Event
}

func (d *due) DueRuns(context.Context) ([]store.DueRun, error) { return d.runs, nil }

func (d *due) InTx(ctx context.Context, do func(q Tx) error) error {
	released, erased, events := d.released, d.erased, d.events
	err := do(dueTx{d: d})
	if err != nil {
		d.released, d.erased, d.events = released, erased, events
	}
	return err
}

type dueTx struct {
	Tx
	d *due
}

func (t dueTx) ReleaseChunks(_ context.Context, run, _ int64) error {
	d := t.d
	d.released = append(d.released, run)
	return nil
}

func (t dueTx) EraseRun(_ context.Context, run int64) (bool, error) {
	d := t.d
	if d.broken[run] {
		return false, errors.New("the disk is full")
	}
	if !d.kept[run] {
		d.erased = append(d.erased, run)
	}
	return !d.kept[run], nil
}

func (t dueTx) AddEvent(_ context.Context, e store.Event) error {
	t.d.events = append(t.d.events, e)
	return nil
}

// A run that was kept at the last moment keeps its chunks, and one that cannot be erased does not keep the others.
func TestEraseRuns(t *testing.T) {
	d := &due{kept: map[int64]bool{2: true}, broken: map[int64]bool{3: true}}
	for _, id := range []int64{1, 2, 3, 4} {
		d.runs = append(d.runs, store.DueRun{ID: id, Project: "vessels", Number: int(id), ProjectID: 7})
	}
	a := &act.Act{Live: act.NewLive(nil, nil)}
	s := &Runs{Finder: finding.New(a, nil), db: d}
	require.ErrorContains(t, s.EraseRuns(context.Background()), "the disk is full")
	require.Equal(t, []int64{1, 4}, d.erased)
	require.Equal(t, []int64{1, 4}, d.released, "chunks of the runs that stay are held as before")
	require.Len(t, d.events, 2)
	require.Equal(t, "vessels/4", d.events[1].Subject)
}
