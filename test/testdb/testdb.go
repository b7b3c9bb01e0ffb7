// Package testdb gives each test a database of its own on the test run's PostgreSQL server, made from a migrated
// template.
package testdb

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kembrel/store/cluster"
	"kembrel/store/pg"
)

// Variable names the server's address; test/withdatabase sets it. Without it a package's tests start a server of their
// own.
const Variable = "KEMBREL_TEST_DATABASE"

var server = sync.OnceValues(func() (string, error) {
	if address := os.Getenv(Variable); address != "" {
		return address, nil
	}
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-test-")
	if err != nil {
		return "", err
	}
	if err := os.Chmod(folder, 0o711); err != nil {
		return "", err
	}
	// It ends with this process; the folder stays, in /var/tmp.
	db, err := cluster.Start(context.Background(), folder+"/postgres", slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return "", err
	}
	return db.Admin, nil
})

const template = "kembrel_template"

// URL makes an empty, migrated database and returns its address; it is dropped when the test ends.
func URL(t testing.TB) string {
	t.Helper()
	ctx := context.Background()
	address, err := server()
	require.NoError(t, err)
	admin, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer admin.Close(ctx)
	// Packages are tested by processes side by side: the lock makes one of them make the template, once.
	_, err = admin.Exec(ctx, "select pg_advisory_lock(7420)")
	require.NoError(t, err)
	defer admin.Exec(ctx, "select pg_advisory_unlock(7420)")
	var there bool
	require.NoError(t, admin.QueryRow(ctx, "select exists (select from pg_database where datname = $1)",
		template).Scan(&there))
	if !there {
		_, err = admin.Exec(ctx, "create database "+template)
		require.NoError(t, err)
		store, err := pg.Open(ctx, at(address, template))
		require.NoError(t, err)
		require.NoError(t, store.Migrate(ctx, ""))
		store.Close()
	}
	var id int64
	require.NoError(t, admin.QueryRow(ctx, "select (random() * 1e15)::bigint").Scan(&id))
	name := fmt.Sprintf("test_%d", id)
	_, err = admin.Exec(ctx, "create database "+name+" template "+template)
	require.NoError(t, err)
	t.Cleanup(func() {
		if admin, err := pgx.Connect(ctx, address); err == nil {
			defer admin.Close(ctx)
			admin.Exec(ctx, "drop database "+name+" with (force)")
		}
	})
	return at(address, name)
}

// New opens a store on a database of its own.
func New(t testing.TB) *pg.Store {
	t.Helper()
	store, err := pg.Open(context.Background(), URL(t))
	require.NoError(t, err)
	t.Cleanup(store.Close)
	return store
}

func at(address, database string) string {
	u, err := url.Parse(address)
	if err != nil {
		panic(err) // pgx has just parsed it
	}
	u.Path = "/" + database
	return u.String()
}
