package datasets

import (
	"context"
	"errors"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/service/act"
	"kembrel/service/work"
	"kembrel/store"
	"kembrel/store/pack"
)

// shelf has one snapshot that nobody looked at, whose row cannot be had.
type shelf struct {
	Storage
	wrong  error
	failed []string
	tries  int
}

func (s *shelf) ClearDrafts(context.Context) error           { return nil }
func (s *shelf) Unanswered(context.Context) ([]int64, error) { return []int64{1, 2}, nil }
func (s *shelf) TrySnapshot(context.Context, int64) error    { s.tries++; return nil }
func (s *shelf) SnapshotByID(context.Context, int64) (store.Snapshot, error) {
	return store.Snapshot{}, s.wrong
}
func (s *shelf) UntrySnapshot(_ context.Context, _ int64, failed string) error {
	s.failed = append(s.failed, failed)
	return nil
}

// What is wrong for a moment costs a snapshot nothing, nor its neighbours; only bytes that are not what they were are
// said to be so.
func TestLookingWaits(t *testing.T) {
	for _, c := range []struct {
		wrong error
		want  string
	}{
		{errors.New("the disk is full"), ""}, {store.ErrNone, ""},
		{&pack.Unreadable{File: "hydrophone#1", Err: pack.ErrMissing}, ""},
		{&pack.Unreadable{File: "hydrophone#1", Err: pack.ErrDamaged}, "its file cannot be read"},
	} {
		db := &shelf{wrong: c.wrong}
		a := act.New(nil, slog.New(slog.DiscardHandler))
		s := New(a, db, nil, work.New(a, nil))
		require.NoError(t, s.LookAt(t.Context()))
		require.Equal(t, []string{c.want, c.want}, db.failed)
		require.Equal(t, 2, db.tries)
	}
}
