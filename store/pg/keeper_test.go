package pg_test

import (
	"context"
	"net/url"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kembrel/store/pg"
	"kembrel/test/testdb"
)

// Where another role keeps the events, the service's can add to them and read them, and neither change them nor take
// away what refuses that; the tables come to a new version all the same, again and again.
func TestTheServiceCannotChangeEvents(t *testing.T) {
	address, err := url.Parse(testdb.URL(t))
	require.NoError(t, err)
	name := address.Path[1:]
	service, keeper, own := name+"_service", name+"_keeper", name+"_own"
	admin, err := pgx.Connect(ctx, address.String())
	require.NoError(t, err)
	t.Cleanup(func() {
		for _, statement := range []string{"drop database if exists " + own + " with (force)", "drop role " + keeper,
			"drop role " + service} {
			admin.Exec(ctx, statement)
		}
		admin.Close(ctx)
	})
	for _, statement := range []string{ // as docs/running.md has them
		"create role " + service + " login password 'word'",
		"create role " + keeper + " login password 'word' in role " + service,
		"create database " + own + " owner " + keeper,
		"grant create on database " + own + " to " + service,
	} {
		_, err := admin.Exec(ctx, statement)
		require.NoError(t, err, statement)
	}
	as := func(role string) string {
		of := *address
		of.User, of.Path = url.UserPassword(role, "word"), "/"+own
		return of.String()
	}
	kept, err := pgx.Connect(ctx, as(keeper))
	require.NoError(t, err)
	_, err = kept.Exec(ctx, "grant create on schema public to "+service)
	require.NoError(t, err)
	require.NoError(t, kept.Close(ctx))
	f, err := pg.Open(ctx, as(service))
	require.NoError(t, err)
	t.Cleanup(f.Close)
	require.ErrorContains(t, f.Migrate(ctx, as(service)), "cannot keep events from itself")
	for range 2 {
		require.NoError(t, f.Migrate(ctx, as(keeper)))
		_, err = f.Pool.Exec(ctx, "insert into event (kind, verb) values ('project', 'created')")
		require.NoError(t, err)
	}
	var count int
	require.NoError(t, f.Pool.QueryRow(ctx, "select count(*) from event").Scan(&count))
	require.Equal(t, 2, count)
	for _, statement := range []string{"update event set verb = 'closed'", "delete from event", "truncate event",
		"alter table event disable trigger event_stays", "drop trigger event_stays on event", "drop table event",
		"alter table event owner to current_user", "delete from event_chain", "set role " + keeper,
		"alter table event_chain disable trigger all"} {
		_, err := f.Pool.Exec(ctx, statement)
		require.Error(t, err, statement)
	}
	_, err = f.Pool.Exec(ctx, "select last_value from event_id_seq") // as a backup does
	require.NoError(t, err)
	// without its keeper's address the service still starts, as there is nothing to change
	require.NoError(t, f.Migrate(ctx, ""))
	require.Error(t, f.Migrate(context.Background(), "postgres://127.0.0.1:1/none"))
}
