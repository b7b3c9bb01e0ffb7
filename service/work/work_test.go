package work

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pg"
	"kembrel/test/testdb"
)

// replica is a replica of the service on a database. stop ends it in good order.
func replica(t *testing.T, db *pg.Store, do Do) (w *Work, stop func()) {
	w = New(act.New(db, slog.New(slog.DiscardHandler)), db)
	w.answer = 100 * time.Millisecond
	w.Kind("sheet", 1, do)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { w.Keep(ctx); close(done) }()
	stop = func() { cancel(); <-done }
	t.Cleanup(stop)
	return w, stop
}

// open makes a database in which one person may send work.
func open(t *testing.T) (*pg.Store, store.Work) {
	db := testdb.New(t)
	var person int64
	require.NoError(t, db.Pool.QueryRow(t.Context(),
		"insert into person (name, administrator) values ('Ines', true) returning id").Scan(&person))
	return db, store.Work{Key: uuid.NewString(), Kind: "sheet", Person: person, Request: json.RawMessage(`{"a": 1}`)}
}

// until asks again until the work has ended.
func until(t *testing.T, w *Work, of store.Work) (row store.Work, err error) {
	t.Helper()
	require.Eventually(t, func() bool {
		row, err = w.Request(t.Context(), of)
		return err != nil || row.Ended != nil
	}, 20*time.Second, time.Millisecond)
	return row, err
}

// Work is done once, however often and wherever it is sent, and whether or not whoever sent it waits.
func TestWorkIsDoneOnce(t *testing.T) {
	t.Parallel()
	db, of := open(t)
	var times atomic.Int32
	release := make(chan struct{})
	do := func(ctx context.Context, w store.Work, at func(float64)) (any, error) {
		times.Add(1)
		at(0.4)
		select {
		case <-release:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		return map[string]int{"number": 7}, nil
	}
	one, _ := replica(t, db, do)
	two, _ := replica(t, db, do)
	left, leave := context.WithCancel(t.Context())
	leave()
	_, err := one.Request(left, of)
	require.Error(t, err)
	for _, w := range []*Work{one, two, one} {
		row, err := w.Request(t.Context(), of)
		require.NoError(t, err)
		require.Nil(t, row.Ended)
	}
	require.Eventually(t, func() bool { // how far it is, asked of the other
		row, err := two.Request(t.Context(), of)
		require.NoError(t, err)
		return row.Progress > 0.39
	}, 20*time.Second, 50*time.Millisecond)
	close(release)
	row, err := until(t, two, of)
	require.NoError(t, err)
	require.JSONEq(t, `{"number": 7}`, string(row.Result))
	again, err := one.Request(t.Context(), of)
	require.NoError(t, err)
	require.Equal(t, row, again)
	require.EqualValues(t, 1, times.Load())
	of.Kind = "snapshot"
	_, err = one.Request(t.Context(), of)
	require.True(t, api.Is(err, api.Conflict), err)
}

// A replica that ends gives its work back, and one that is killed has it taken: another does it.
func TestAnotherReplicaTakesUpWork(t *testing.T) {
	t.Parallel()
	db, of := open(t)
	begun := make(chan struct{}, 1)
	one, stop := replica(t, db, func(ctx context.Context, _ store.Work, _ func(float64)) (any, error) {
		begun <- struct{}{}
		<-ctx.Done()
		return nil, ctx.Err()
	})
	_, err := one.Request(t.Context(), of)
	require.NoError(t, err)
	<-begun
	stop()
	two, _ := replica(t, db, func(_ context.Context, w store.Work, _ func(float64)) (any, error) {
		return w.Tries, nil
	})
	require.NoError(t, two.PickLeft(t.Context()))
	row, err := until(t, two, of)
	require.NoError(t, err)
	require.Equal(t, "1", string(row.Result), "ending in good order is no try")

	of.Key = uuid.NewString() // a replica that was killed leaves this
	require.NoError(t, db.AddWork(t.Context(), of))
	killed := uuid.NewString()
	_, err = db.ClaimWork(t.Context(), of.Key, killed, patience)
	require.NoError(t, err)
	_, err = db.BeginWork(t.Context(), of.Key, killed)
	require.NoError(t, err)
	row, err = two.Request(t.Context(), of)
	require.NoError(t, err)
	require.Nil(t, row.Ended, "whoever has it may be slow")
	_, err = db.Pool.Exec(t.Context(), "update work set beat = now() - interval '1 hour' where key = $1", of.Key)
	require.NoError(t, err)
	require.NoError(t, two.PickLeft(t.Context()))
	row, err = until(t, two, of)
	require.NoError(t, err)
	require.Equal(t, "2", string(row.Result))
}

// What a piece fails at is told to whoever sends it, once, and costs nothing else.
func TestWorkThatFails(t *testing.T) {
	t.Parallel()
	db, of := open(t)
	var do Do
	w, _ := replica(t, db, func(ctx context.Context, w store.Work, at func(float64)) (any, error) {
		return do(ctx, w, at)
	})
	for name, c := range map[string]struct {
		do   Do
		kind api.Kind
	}{
		"bad input": {func(context.Context, store.Work, func(float64)) (any, error) {
			return nil, api.Fail(api.Invalid, "line 3 is none")
		}, api.Invalid},
		"a fault of ours": {func(context.Context, store.Work, func(float64)) (any, error) {
			panic("index out of range")
		}, api.Internal},
		"an error": {func(context.Context, store.Work, func(float64)) (any, error) {
			return nil, errors.New("odd")
		}, api.Internal},
	} {
		do = c.do
		_, err := until(t, w, of)
		require.True(t, api.Is(err, c.kind), "%s: %v", name, err)
	}
	do = func(context.Context, store.Work, func(float64)) (any, error) { return 1, nil }
	row, err := until(t, w, of)
	require.NoError(t, err)
	require.Equal(t, "1", string(row.Result))
}

// Work that kills whoever does it is given up.
func TestWorkThatKillsIsGivenUp(t *testing.T) {
	t.Parallel()
	db, of := open(t)
	require.NoError(t, db.AddWork(t.Context(), of))
	behind := of // waits for its turn each time, which does not count
	behind.Key = uuid.NewString()
	require.NoError(t, db.AddWork(t.Context(), behind))
	for range mostTry {
		killed := uuid.NewString()
		for _, key := range []string{of.Key, behind.Key} {
			_, err := db.ClaimWork(t.Context(), key, killed, 0)
			require.NoError(t, err)
		}
		_, err := db.BeginWork(t.Context(), of.Key, killed)
		require.NoError(t, err)
	}
	_, err := db.Pool.Exec(t.Context(), "update work set beat = now() - interval '1 hour'")
	require.NoError(t, err)
	w, _ := replica(t, db, func(_ context.Context, w store.Work, _ func(float64)) (any, error) { return w.Key, nil })
	_, err = until(t, w, of)
	require.True(t, api.Is(err, api.TooCostly), err)
	row, err := until(t, w, behind)
	require.NoError(t, err)
	require.Equal(t, `"`+behind.Key+`"`, string(row.Result))
}

// What is under way in a replica is bounded.
func TestWorkIsBounded(t *testing.T) {
	t.Parallel()
	db, of := open(t)
	release := make(chan struct{})
	w, _ := replica(t, db, func(context.Context, store.Work, func(float64)) (any, error) { <-release; return nil, nil })
	w.answer = time.Millisecond
	for range mostHere {
		of.Key = uuid.NewString()
		_, err := w.Request(t.Context(), of)
		require.NoError(t, err)
	}
	of.Key = uuid.NewString()
	_, err := w.Request(t.Context(), of)
	require.True(t, api.Is(err, api.TooMany), err)
	close(release)
	require.Eventually(t, func() bool { return !w.full() }, 20*time.Second, time.Millisecond)
}
