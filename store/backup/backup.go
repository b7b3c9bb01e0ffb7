// Package backup copies a whole Kembrel, database and blobs, to a place from which it can be made again: a blob store,
// so a folder or a bucket. The service goes on meanwhile. docs/storage.md has the format.
//
// It needs PostgreSQL's pg_dump and pg_restore, and imports store/blob, store/pack and core/chunk.
package backup

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kembrel/core/chunk"
	"kembrel/store/blob"
	"kembrel/store/pack"
	"kembrel/store/pg/db"
)

// Parts are what a Kembrel consists of.
type Parts struct {
	Database string // its URL
	Blobs    blob.Store
	Programs string // folder of pg_dump and pg_restore; "": they are found by PATH
}

// Manifest says what belongs to a backup. It is written last: a backup without one is none.
type Manifest struct {
	Format   int       `json:"format"` // 1
	Version  string    `json:"version"`
	Made     time.Time `json:"made"`
	Database Blob      `json:"database"`
	Blobs    []Blob    `json:"blobs"`
	Lost     []string  `json:"lost,omitempty"`    // blobs that were gone already
	Damaged  []string  `json:"damaged,omitempty"` // digests of chunks that were damaged already when they were copied

	Unreadable error `json:"-"` // why a manifest says nothing; its backup is there, and others are none the worse
	folder     string
}

// Blob is one with its length in bytes and the BLAKE3 digest of all of it.
type Blob struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	Digest string `json:"digest"`
}

const (
	folder   = "backup/"
	nameTime = "20060102t150405z"
)

// Name is the name of a backup: when it was made.
func (m Manifest) Name() string {
	if m.Unreadable != nil {
		return m.folder
	}
	return m.Made.UTC().Format(nameTime)
}

// Made says what a backup came to.
type Made struct {
	Manifest
	Copied int64 // bytes of blobs that were not there yet, and of the database
	Pruned int   // older backups that were taken away
}

// Make makes a backup of a service that may be running, and returns when all of it is safe. It is consistent: all that
// the database in it knows is in it. Packs that an earlier backup has there are not copied again. Where keep is not 0
// only the newest so many backups stay. told hears of each blob that is looked at.
func Make(ctx context.Context, from Parts, into blob.Store, version string, keep int,
	told func(pack.Copied)) (Made, error) {
	out := Made{Manifest: Manifest{Format: 1, Version: version, Made: time.Now().UTC().Truncate(time.Second)}}
	earlier, err := List(ctx, into)
	if err != nil {
		return out, err
	}
	conn, err := pgx.Connect(ctx, from.Database)
	if err != nil {
		return out, fmt.Errorf("connect to the database: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx)) // ends the lock
	if _, err := conn.Exec(ctx, "select pg_advisory_lock_shared($1)", db.CleaningLock); err != nil {
		return out, fmt.Errorf("wait for cleaning to end: %w", err)
	}
	if out.Database, err = dump(ctx, from, into, folder+out.Name()+"/database"); err != nil {
		return out, err
	}
	out.Copied = out.Database.Size
	known := map[Blob]string{} // digests, by name and size
	for _, m := range earlier {
		for _, b := range m.Blobs {
			known[Blob{Name: b.Name, Size: b.Size}] = b.Digest
		}
	}
	list, err := held(ctx, conn)
	if err != nil {
		return out, err
	}
	for _, b := range list {
		c, err := pack.Copy(ctx, from.Blobs, into, b.Name, b.Size, true)
		if errors.Is(err, blob.ErrNone) {
			out.Lost = append(out.Lost, b.Name)
			continue
		}
		if err != nil {
			return out, err
		}
		if !c.There {
			b.Digest = c.Digest.String()
			out.Copied += b.Size
		} else if b.Digest = known[b]; b.Digest == "" {
			if c.Digest, err = pack.Digest(ctx, into, b.Name, b.Size); err != nil {
				return out, err
			}
			b.Digest = c.Digest.String()
		}
		for _, d := range c.Damaged {
			out.Damaged = append(out.Damaged, d.String())
		}
		out.Blobs = append(out.Blobs, b)
		told(c)
	}
	text, err := json.MarshalIndent(out.Manifest, "", "  ")
	if err != nil {
		return out, err
	}
	if err := into.Put(ctx, folder+out.Name()+"/manifest", bytes.NewReader(append(text, '\n'))); err != nil {
		return out, err
	}
	if keep > 0 {
		out.Pruned, err = prune(ctx, into, keep)
	}
	return out, err
}

// held lists the blobs in which chunks lie, with the length up to the last of them: so much does not change any more.
func held(ctx context.Context, conn *pgx.Conn) ([]Blob, error) {
	rows, err := conn.Query(ctx,
		"select pack, max(at + stored)::bigint as size from chunk where pack <> '' and bad <> 'damaged' group by pack order by pack")
	if err != nil {
		return nil, err
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (b Blob, err error) {
		err = row.Scan(&b.Name, &b.Size)
		b.Name = pack.Name(b.Name)
		return b, err
	})
	if err != nil {
		return nil, err
	}
	rows, err = conn.Query(ctx, "select digest, size from chunk where pack = '' and bad <> 'damaged' order by digest")
	if err != nil {
		return nil, err
	}
	legacy, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (b Blob, err error) {
		var d []byte
		if err = row.Scan(&d, &b.Size); err == nil {
			b.Name = pack.LegacyName(chunk.Digest(d))
		}
		return b, err
	})
	return append(out, legacy...), err
}

func (p Parts) program(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(p.Programs, name), args...)
	if p.Programs == "" {
		cmd = exec.CommandContext(ctx, name, args...)
	}
	return cmd
}

// dump keeps what pg_dump says, whole or not at all.
func dump(ctx context.Context, from Parts, into blob.Store, name string) (Blob, error) {
	cmd := from.program(ctx, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", "--dbname", from.Database)
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	said, err := cmd.StdoutPipe()
	if err != nil {
		return Blob{}, err
	}
	if err := cmd.Start(); err != nil {
		return Blob{}, fmt.Errorf("pg_dump (it comes with PostgreSQL): %w", err)
	}
	sum := chunk.NewHash()
	whole := &ended{Reader: io.TeeReader(said, sum), end: func() error {
		if err := cmd.Wait(); err != nil {
			return fmt.Errorf("pg_dump: %w: %s", err, strings.TrimSpace(complaint.String()))
		}
		return nil
	}}
	if err := into.Put(ctx, name, whole); err != nil {
		return Blob{}, err
	}
	size, err := into.Size(ctx, name)
	return Blob{name, size, sum.Digest().String()}, err
}

// ended asks at the end whether it was a good one.
type ended struct {
	io.Reader
	end func() error
}

func (e *ended) Read(p []byte) (int, error) {
	n, err := e.Reader.Read(p)
	if err == io.EOF {
		if why := e.end(); why != nil {
			return n, why
		}
	}
	return n, err
}

// maxManifest is the longest manifest that is read, in bytes: some 100 for each blob.
const maxManifest = 1 << 30

// List lists the backups at a place, the newest first, and those of which it cannot be known what belongs to them.
func List(ctx context.Context, from blob.Store) ([]Manifest, error) {
	var names []string
	if err := from.List(ctx, folder, func(name string, _ int64) error {
		if strings.HasSuffix(name, "/manifest") {
			names = append(names, name)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	slices.Sort(names)
	slices.Reverse(names)
	out := make([]Manifest, len(names))
	for i, name := range names {
		r, err := from.Get(ctx, name, 0, 0)
		if err != nil {
			return nil, err
		}
		err = json.NewDecoder(io.LimitReader(r, maxManifest)).Decode(&out[i])
		r.Close()
		if err == nil && out[i].Format != 1 {
			err = fmt.Errorf("it has format %d; this version reads 1", out[i].Format)
		}
		if err != nil {
			at := strings.TrimSuffix(strings.TrimPrefix(name, folder), "/manifest")
			out[i] = Manifest{Unreadable: err, folder: at}
		}
	}
	return out, nil
}

// prune takes away all backups but the newest, and what none of those that are left holds.
func prune(ctx context.Context, at blob.Store, keep int) (int, error) {
	list, err := List(ctx, at)
	all := len(list)
	list = slices.DeleteFunc(list, func(m Manifest) bool { return m.Unreadable != nil })
	if err != nil || len(list) <= keep {
		return 0, err
	}
	needed := map[string]bool{}
	for _, m := range list[:keep] {
		for _, b := range m.Blobs {
			needed[b.Name] = true
		}
	}
	for _, m := range list[keep:] { // the manifest first: without it there is no backup
		for _, name := range []string{"/manifest", "/database"} {
			if err := at.Delete(ctx, folder+m.Name()+name); err != nil {
				return 0, err
			}
		}
	}
	if len(list) < all { // nobody knows which blobs the others need
		return len(list) - keep, nil
	}
	var gone []string
	err = at.List(ctx, "", func(name string, _ int64) error {
		if !strings.HasPrefix(name, folder) && !needed[name] {
			gone = append(gone, name)
		}
		return nil
	})
	for _, name := range gone {
		err = errors.Join(err, at.Delete(ctx, name))
	}
	return len(list) - keep, err
}

// ErrNotEmpty says that there is something where a backup is to be restored.
var ErrNotEmpty = errors.New("not empty")

// Restore makes a Kembrel of a backup: at ("": the newest) names it. The database must be empty; blobs that an attempt
// before left are not copied again. Every blob is checked against its digest. told hears of each.
func Restore(ctx context.Context, from blob.Store, at string, to Parts, told func(Blob)) (Manifest, error) {
	list, err := List(ctx, from)
	if err != nil {
		return Manifest{}, err
	}
	i := slices.IndexFunc(list, func(m Manifest) bool { return at == "" && m.Unreadable == nil || m.Name() == at })
	if i >= 0 && list[i].Unreadable != nil {
		return Manifest{}, fmt.Errorf("what belongs to the backup %s cannot be read: %w", at, list[i].Unreadable)
	}
	if i < 0 {
		var names []string
		for _, m := range list {
			names = append(names, m.Name())
		}
		if len(names) == 0 {
			return Manifest{}, errors.New("there is no backup there")
		}
		return Manifest{}, fmt.Errorf("there is no backup %s; there are %s", at, strings.Join(names, ", "))
	}
	m := list[i]
	if err := emptyDatabase(ctx, to.Database); err != nil {
		return m, err
	}
	for _, b := range m.Blobs {
		if err := fetch(ctx, from, to.Blobs, b); err != nil {
			return m, err
		}
		told(b)
	}
	return m, m.makeDatabase(ctx, from, to)
}

func emptyDatabase(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer conn.Close(ctx)
	tables := 0
	if err := conn.QueryRow(ctx,
		"select count(*) from pg_tables where schemaname not in ('pg_catalog', 'information_schema')").Scan(&tables); err != nil {
		return err
	}
	if tables > 0 {
		return fmt.Errorf("the database is %w: it has %d tables", ErrNotEmpty, tables)
	}
	return nil
}

// fetch copies a blob out of a backup. It may have been longer when a later backup was made: then so much of it as
// belongs to this one.
func fetch(ctx context.Context, from, to blob.Store, b Blob) error {
	if have, err := to.Size(ctx, b.Name); err == nil && have == b.Size {
		if got, err := pack.Digest(ctx, to, b.Name, b.Size); err == nil && got.String() == b.Digest {
			return nil
		}
	}
	r, err := from.Get(ctx, b.Name, 0, b.Size)
	if err != nil {
		return err
	}
	defer r.Close()
	sum := chunk.NewHash()
	checked := &ended{Reader: io.TeeReader(r, sum), end: func() error {
		if got := sum.Digest(); got.String() != b.Digest {
			return fmt.Errorf("blob %s of the backup is damaged: it is %s, not %s", b.Name, got, b.Digest)
		}
		return nil
	}}
	return to.Put(ctx, b.Name, checked)
}

// makeDatabase has pg_restore make the database, whole or not at all.
func (m Manifest) makeDatabase(ctx context.Context, from blob.Store, to Parts) error {
	if got, err := pack.Digest(ctx, from, m.Database.Name, m.Database.Size); err != nil ||
		got.String() != m.Database.Digest {
		return errors.Join(fmt.Errorf("the database of the backup is damaged"), err)
	}
	r, err := from.Get(ctx, m.Database.Name, 0, 0)
	if err != nil {
		return err
	}
	defer r.Close()
	cmd := to.program(ctx, "pg_restore", "--single-transaction", "--exit-on-error", "--no-owner", "--no-privileges",
		"--dbname", to.Database)
	cmd.Stdin = r
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("pg_restore (it comes with PostgreSQL): %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Size is how many bytes belong to a backup.
func (m Manifest) Size() int64 {
	n := m.Database.Size
	for _, b := range m.Blobs {
		n += b.Size
	}
	return n
}
