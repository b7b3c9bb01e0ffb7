package db

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"kembrel/store"
)

// None reports whether err says that a row is not there.
func None(err error) bool { return errors.Is(err, store.ErrNone) }

//go:embed migrations/*.sql
var migrations embed.FS

// Files are the queries that several slices need.
//
//go:embed *.sql
var Files embed.FS

// JobSchema is where the background jobs keep their tables.
const JobSchema = "jobs"

type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
}

// Q asks the database: on its connections, or in a transaction. Each slice has its own queries on it.
type Q struct {
	on   querier
	text map[string]string
}

// Asker is a Q, or what embeds one.
type Asker interface{ ask() Q }

func (q Q) ask() Q { return q }

// Query asks a statement that was put together; others are asked by name.
func (q Q) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return q.on.Query(ctx, sql, args...)
}

// Run runs a statement that was put together.
func (q Q) Run(ctx context.Context, sql string) error {
	_, err := q.on.Exec(ctx, sql)
	return err
}

// Tx is the transaction that the queries are made in; nil: none.
func (q Q) Tx() pgx.Tx {
	tx, _ := q.on.(pgx.Tx)
	return tx
}

// DB is an open database with Kembrel's tables.
type DB struct {
	Q
	Pool  *pgxpool.Pool // of people
	pools pools
}

// Open connects to the database at url and waits for nothing: an unreachable database is an error. The queries are
// those of the .sql files in files.
func Open(ctx context.Context, url string, files ...fs.FS) (*DB, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	text, err := loadQueries(files)
	if err != nil {
		return nil, err
	}
	config.ConnConfig.RuntimeParams["jit"] = "off" // its start costs more than these queries
	pools, err := openPools(ctx, config)
	if err != nil {
		return nil, err
	}
	if err := pools[People].Ping(ctx); err != nil {
		pools.close()
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	return &DB{Q: Q{on: pools, text: text}, Pool: pools[People], pools: pools}, nil
}

// Close ends all connections. Nothing may be asked after.
func (s *DB) Close() { s.pools.close() }

// Lane are the connections of a lane.
func (s *DB) Lane(lane Lane) *pgxpool.Pool { return s.pools[lane] }

// Migrate brings the tables to this version, under a lock so that replicas starting together do it once.
func (s *DB) Migrate(ctx context.Context) error {
	// Moving many rows takes its time, so these statements have no limit.
	config := s.Pool.Config()
	config.ConnConfig.RuntimeParams["statement_timeout"] = "0"
	config.ConnConfig.RuntimeParams["idle_in_transaction_session_timeout"] = "0"
	config.MaxConns = 3
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	defer pool.Close()
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	if err := migrateTables(ctx, db); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	err = underLock(ctx, pool, func() error {
		if _, err := pool.Exec(ctx, "create schema if not exists "+JobSchema); err != nil {
			return err
		}
		jobs, err := rivermigrate.New(riverpgxv5.New(pool), &rivermigrate.Config{Schema: JobSchema})
		if err != nil {
			return err
		}
		_, err = jobs.Migrate(ctx, rivermigrate.DirectionUp, nil)
		return err
	})
	if err != nil {
		return fmt.Errorf("migrate the job tables: %w", err)
	}
	return nil
}

func migrateTables(ctx context.Context, db *sql.DB) error {
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// underLock runs do while this is the only replica that does.
func underLock(ctx context.Context, pool *pgxpool.Pool, do func() error) error {
	const key = 0x6b656d6272656c // "kembrel"
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", int64(key)); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", int64(key))
	return do()
}

// CleaningLock is held while chunks are cleaned, by one replica at a time; a backup holds it shared.
const CleaningLock = int64(0x6b656d636c65) // "kemcle"

// WhileCleaning runs do unless another replica cleans or a backup is being made; then it returns false.
func (s *DB) WhileCleaning(ctx context.Context, do func() error) (bool, error) {
	conn, err := s.pools[Jobs].Acquire(ctx)
	if err != nil {
		return false, err
	}
	defer conn.Release()
	free := false
	if err := conn.QueryRow(ctx, "select pg_try_advisory_lock($1)", CleaningLock).Scan(&free); err != nil || !free {
		return false, err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", CleaningLock)
	return true, do()
}

// InTx runs do in a transaction that is committed if do returns nil.
func (s *DB) InTx(ctx context.Context, do func(q Q) error) error {
	return pgx.BeginFunc(ctx, s.pools.of(ctx), func(tx pgx.Tx) error { return do(Q{on: tx, text: s.text}) })
}

// Snapshot runs do where all that is read is of one moment.
func (s *DB) Snapshot(ctx context.Context, do func(q Q) error) error {
	return pgx.BeginTxFunc(ctx, s.pools.of(ctx), pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly},
		func(tx pgx.Tx) error {
			return do(Q{on: tx, text: s.text})
		})
}

// Away reports whether err means that the database does not answer just now, so that trying again may help.
func Away(err error) bool {
	if err == nil || errors.Is(err, context.Canceled) {
		return false
	}
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		return strings.HasPrefix(pe.Code, "57P") || strings.HasPrefix(pe.Code, "53") ||
			strings.HasPrefix(pe.Code, "08") || pe.Code == "25006"
	}
	var ce *pgconn.ConnectError
	if errors.As(err, &ce) || pgconn.SafeToRetry(err) {
		return true
	}
	for _, cut := range []error{context.DeadlineExceeded, io.EOF, io.ErrUnexpectedEOF, net.ErrClosed,
		syscall.ECONNRESET, syscall.ECONNREFUSED, syscall.EPIPE} {
		if errors.Is(err, cut) {
			return true
		}
	}
	return false
}

// loadQueries reads .sql files: each query stands under a line "-- query: name".
func loadQueries(files []fs.FS) (map[string]string, error) {
	out := map[string]string{}
	for _, folder := range files {
		names, err := fs.Glob(folder, "*.sql")
		if err != nil {
			return nil, err
		}
		for _, file := range names {
			content, err := fs.ReadFile(folder, file)
			if err != nil {
				return nil, err
			}
			for _, section := range strings.Split("\n"+string(content), "\n-- query: ")[1:] {
				name, text, _ := strings.Cut(section, "\n")
				if _, twice := out[name]; twice {
					return nil, fmt.Errorf("query %q is there twice", name)
				}
				out[name] = strings.TrimSpace(text)
			}
		}
	}
	return out, nil
}

// A is the named arguments of a query.
type A = pgx.NamedArgs

// SQL is the text of a query; it panics where there is none of that name.
func (q Q) SQL(name string) string {
	text, ok := q.text[name]
	if !ok {
		panic("no query " + name)
	}
	return text
}

// Exec runs a query by its name and returns how many rows it touched.
func (q Q) Exec(ctx context.Context, name string, args A) (int64, error) {
	tag, err := q.on.Exec(ctx, q.SQL(name), args)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	return tag.RowsAffected(), nil
}

// List collects rows into structs by column name.
func List[T any](ctx context.Context, by Asker, name string, args A) ([]T, error) {
	q := by.ask()
	rows, err := q.on.Query(ctx, q.SQL(name), args)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByName[T])
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return out, nil
}

// ListAnew is List for a query whose conditions fall away where they are not asked for: it is planned with the values
// of this call, which costs about a millisecond, and not once for all calls.
func ListAnew[T any](ctx context.Context, by Asker, name string, args A) ([]T, error) {
	q := by.ask()
	rows, err := q.on.Query(ctx, q.SQL(name), pgx.QueryExecModeExec, args)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByName[T])
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return out, nil
}

// ForEach reads rows of several hundred thousand: it scans each into the same places, and calls do.
func (q Q) ForEach(ctx context.Context, name string, args A, into []any, do func()) error {
	rows, err := q.on.Query(ctx, q.SQL(name), args)
	if err == nil {
		_, err = pgx.ForEachRow(rows, into, func() error { do(); return nil })
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// TooCostly reports whether the database gave a statement up because it took longer than its lane allows.
func TooCostly(err error) bool {
	var problem *pgconn.PgError
	return errors.As(err, &problem) && problem.Code == "57014"
}

// BadText reports whether a text was sent that the database cannot keep: with a NUL byte in it, or in no encoding.
func BadText(err error) bool {
	var problem *pgconn.PgError
	return errors.As(err, &problem) && (problem.Code == "22021" || problem.Code == "22P05")
}

// OutOfRange reports whether the database could not compute a number.
func OutOfRange(err error) bool {
	var problem *pgconn.PgError
	return errors.As(err, &problem) && problem.Code == "22003"
}

// One is list for exactly one row; without it the error is ErrNone.
func One[T any](ctx context.Context, by Asker, name string, args A) (T, error) {
	q := by.ask()
	rows, err := q.on.Query(ctx, q.SQL(name), args)
	if err != nil {
		var none T
		return none, fmt.Errorf("%s: %w", name, err)
	}
	out, err := pgx.CollectOneRow(rows, pgx.RowToStructByName[T])
	if err != nil {
		return out, fmt.Errorf("%s: %w", name, err)
	}
	return out, nil
}

// Values is list for a single column.
func Values[T any](ctx context.Context, by Asker, name string, args A) ([]T, error) {
	q := by.ask()
	rows, err := q.on.Query(ctx, q.SQL(name), args)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[T])
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return out, nil
}

// Value is one for a single column.
func Value[T any](ctx context.Context, by Asker, name string, args A) (T, error) {
	q := by.ask()
	rows, err := q.on.Query(ctx, q.SQL(name), args)
	if err != nil {
		var none T
		return none, fmt.Errorf("%s: %w", name, err)
	}
	out, err := pgx.CollectOneRow(rows, pgx.RowTo[T])
	if err != nil {
		return out, fmt.Errorf("%s: %w", name, err)
	}
	return out, nil
}

// QueryTexts are all queries by name, for checking them against a database.
func (q Q) QueryTexts() map[string]string { return q.text }
