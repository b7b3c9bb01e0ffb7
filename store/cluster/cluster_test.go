package cluster_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kembrel/store/cluster"
)

// The service's role is no superuser, reads no files, and owns also what a version that was the superuser itself had
// made.
func TestServiceIsNoSuperuser(t *testing.T) {
	ctx := context.Background()
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-cluster-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	start := func() *cluster.Cluster {
		c, err := cluster.Start(ctx, folder+"/postgres", quiet)
		require.NoError(t, err)
		return c
	}
	require.NoError(t, os.Chmod(folder, 0o755))
	c := start()
	admin, err := pgx.Connect(ctx, c.Admin)
	require.NoError(t, err)
	_, err = admin.Exec(ctx, `create schema jobs; create type old_state as enum ('a'); create table jobs.old (id bigint generated always as identity, n bigserial, state old_state);
		create view old_view as select * from jobs.old; create function old_one() returns int language sql as 'select 1'`)
	require.NoError(t, err)
	require.NoError(t, admin.Close(ctx))
	c.Stop()

	c = start()
	defer c.Stop()
	service, err := pgx.Connect(ctx, c.URL)
	require.NoError(t, err)
	defer service.Close(ctx)
	var super, creates bool
	require.NoError(t, service.QueryRow(ctx,
		"select rolsuper, rolcreaterole or rolcreatedb from pg_roles where rolname = current_user").Scan(&super,
		&creates))
	require.False(t, super)
	require.False(t, creates)
	_, err = service.Exec(ctx, `select pg_read_file('/etc/passwd')`)
	require.ErrorContains(t, err, "permission denied")
	_, err = service.Exec(ctx, `create temp table t (a text); copy t from program 'id'`)
	require.ErrorContains(t, err, "must be superuser")
	_, err = service.Exec(ctx, `alter table jobs.old add column more int; insert into jobs.old (state) values ('a'); truncate jobs.old; drop view old_view; drop function old_one;
		alter type old_state add value 'b'; create table mine (id int); drop table jobs.old; drop schema jobs`)
	require.NoError(t, err)
	running, err := cluster.Running(folder + "/postgres")
	require.NoError(t, err)
	require.Equal(t, c.URL, running)
}

// Root goes on with a database as the user who made it, and takes it from nobody.
func TestRootTakesNoDatabaseAway(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root starts databases of other users")
	}
	nobody, err := user.Lookup("nobody")
	require.NoError(t, err)
	uid, err := strconv.Atoi(nobody.Uid)
	require.NoError(t, err)
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-cluster-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, os.Chmod(folder, 0o755))
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	first, err := cluster.Start(t.Context(), folder+"/postgres", quiet)
	require.NoError(t, err)
	first.Stop()
	require.NoError(t, filepath.WalkDir(folder, func(path string, _ os.DirEntry, err error) error {
		return errors.Join(err, os.Lchown(path, uid, uid))
	}))
	again, err := cluster.Start(t.Context(), folder+"/postgres", quiet)
	require.NoError(t, err)
	defer again.Stop()
	info, err := os.Stat(folder + "/postgres/data")
	require.NoError(t, err)
	require.EqualValues(t, uid, info.Sys().(*syscall.Stat_t).Uid)
	conn, err := pgx.Connect(t.Context(), again.URL)
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
}
