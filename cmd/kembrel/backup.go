package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/store/backup"
	"kembrel/store/blob"
	"kembrel/store/cluster"
	"kembrel/store/pack"
)

// interruptible is a command that ends at an interrupt, in good order.
func interruptible(run func(ctx context.Context, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
		defer stop()
		return run(ctx, args)
	}
}

// parts are the database and the blobs that settings name: those of kembrel serve where a database is named, else those
// in the data folder. If nobody runs the database in the data folder it runs until release is called.
func parts(ctx context.Context, a *term.App) (p backup.Parts, release func(), err error) {
	release = func() {}
	p.Database = a.Settings.Get("database")
	place := a.Settings.Get("blobs")
	if p.Database != "" {
		if place == "" {
			return p, release, fmt.Errorf("--database is given: say where the blobs are, with --blobs")
		}
		p.Blobs, err = blob.Open(ctx, place)
		return p, release, err
	}
	if p.Programs, err = cluster.Programs(); err != nil {
		return p, release, err
	}
	data, err := filepath.Abs(a.Settings.Get("data"))
	if err != nil {
		return p, release, err
	}
	folder := filepath.Join(data, "postgres")
	if p.Database, err = cluster.Running(folder); err != nil {
		return p, release, err
	}
	if p.Database == "" {
		log, err := newLog(a)
		if err != nil {
			return p, release, err
		}
		lock, err := lockFolder(data)
		if err != nil {
			return p, release, err
		}
		db, err := cluster.Start(ctx, folder, log)
		if err != nil {
			lock.Close()
			return p, release, err
		}
		p.Database = db.URL
		release = func() {
			db.Stop()
			lock.Close()
		}
	}
	if p.Blobs, err = blob.Open(ctx, blobsOf(a, data)); err != nil {
		release()
		return p, func() {}, err
	}
	return p, release, nil
}

func backupCommand(a *term.App) *cobra.Command {
	var into string
	var keep int
	var listed bool
	cmd := &cobra.Command{Use: "backup",
		Short: "Copy database and blobs, of a running service, to a place from which all can be made again",
		Args:  cobra.NoArgs,
		Long: `Make a backup of database and blobs, consistent while the service runs: all that the database in it knows is in it. It goes into a folder or a bucket; blobs that an
earlier backup has there are not copied again. It is run where the database and the blobs can be reached, with the settings of kembrel start or of kembrel serve, and
needs PostgreSQL's pg_dump. While it runs nothing is cleaned away. Every chunk that is copied is checked. The exit code is 7 where one was damaged or gone.`,
		Example: "  kembrel backup --into /mnt/backup\n  kembrel backup --into 's3://harbour-backup/kembrel?endpoint=https://s3.harbour:9000' --keep 14\n  kembrel backup --into /mnt/backup --list",
		RunE: interruptible(func(ctx context.Context, _ []string) error {
			if into == "" {
				return term.Usage("say where to: --into FOLDER, or --into s3://...")
			}
			if keep < 0 {
				return term.Usage("--keep %d: from 0 up", keep)
			}
			to, err := blob.Open(ctx, into)
			if err != nil {
				return err
			}
			if listed {
				return listBackups(ctx, a, to)
			}
			data := a.Settings.Get("data")
			if a.Settings.Get("database") == "" && !begun(data) {
				return fmt.Errorf("there is no Kembrel in %s; name its folder with --data, or its --database and --blobs", data)
			}
			from, release, err := parts(ctx, a)
			if err != nil {
				return err
			}
			defer release()
			meter := a.Meter("blobs", 0)
			add, done := meter.Add, meter.Done
			made, err := backup.Make(ctx, from, to, a.Version, keep, func(c pack.Copied) { add(c.Size) })
			done()
			if err != nil {
				return fmt.Errorf("no backup was made: %w", err)
			}
			fmt.Fprintf(a.Out, "Backup %s: %s, of which %s were copied now.\n", made.Name(), api.Bytes(made.Size()),
				api.Bytes(made.Copied))
			if made.Pruned > 0 {
				fmt.Fprintf(a.Out, "%d older taken away.\n", made.Pruned)
			}
			if n := len(made.Damaged) + len(made.Lost); n > 0 {
				return term.Differs(fmt.Errorf("%d chunks and %d packs were damaged or gone already; kembrel blobs check names the checkpoints", len(made.Damaged), len(made.Lost)))
			}
			return nil
		})}
	a.Settings.Add(cmd.Flags(), "data", "database", "blobs", "log-level", "log-format")
	cmd.Flags().StringVar(&into, "into", "", "folder, or s3://BUCKET/PREFIX?endpoint=..., to copy into")
	cmd.Flags().IntVar(&keep, "keep", 0, "keep only the newest so many backups there; 0: all")
	cmd.Flags().BoolVar(&listed, "list", false, "list the backups there, and make none")
	return cmd
}

func listBackups(ctx context.Context, a *term.App, at blob.Store) error {
	list, err := backup.List(ctx, at)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		fmt.Fprintln(a.Out, "There is no backup there.")
	}
	for _, m := range list {
		if m.Unreadable != nil {
			fmt.Fprintf(a.Out, "%s  cannot be read: %v\n", m.Name(), m.Unreadable)
			continue
		}
		fmt.Fprintf(a.Out, "%s  %s, by version %s\n", m.Name(), api.Bytes(m.Size()), m.Version)
	}
	return nil
}

func restoreBackup(a *term.App) *cobra.Command {
	var at string
	cmd := &cobra.Command{Use: "restore-backup FROM", Short: "Make database and blobs of a backup, in an empty place",
		Long: `Make database and blobs of a backup: in the data folder of a kembrel start that is to be, or with --database and --blobs. The database must be empty. Every blob is
checked; the database is made whole or not at all. Cut off, the same command goes on. Start the service there afterwards; a newer version than the backup's migrates it.`,
		Example: "  kembrel restore-backup /mnt/backup --data /var/lib/kembrel-2\n  kembrel restore-backup /mnt/backup --at 20261123t203105z --data /var/lib/kembrel-2",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return term.Usage("say where the backup is: kembrel restore-backup FROM --data FOLDER")
			}
			return nil
		},
		RunE: interruptible(func(ctx context.Context, args []string) error {
			if folder, err := os.Stat(args[0]); err == nil && !folder.IsDir() {
				return fmt.Errorf("%s is no folder", args[0])
			} else if errors.Is(err, os.ErrNotExist) && len(args[0]) > 3 && args[0][:3] != "s3:" {
				return fmt.Errorf("there is no folder %s", args[0])
			}
			from, err := blob.Open(ctx, args[0])
			if err != nil {
				return err
			}
			list, err := backup.List(ctx, from)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return fmt.Errorf("there is no backup in %s", args[0])
			}
			if a.Settings.Get("database") == "" {
				if err := os.MkdirAll(a.Settings.Get("data"), 0o711); err != nil {
					return err
				}
			}
			to, release, err := parts(ctx, a)
			if err != nil {
				return err
			}
			defer release()
			meter := a.Meter("blobs", 0)
			add, done := meter.Add, meter.Done
			m, err := backup.Restore(ctx, from, at, to, func(b backup.Blob) { add(b.Size) })
			done()
			if errors.Is(err, backup.ErrNotEmpty) {
				return fmt.Errorf("%w; restore into another place", err)
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Restored backup %s: %s, every digest checked. Start the service there now.\n", m.Name(),
				api.Bytes(m.Size()))
			return nil
		})}
	a.Settings.Add(cmd.Flags(), "data", "database", "blobs", "log-level", "log-format")
	cmd.Flags().StringVar(&at, "at", "", "which backup, as kembrel backup --list names it; else the newest")
	return cmd
}

func blobsCopy(a *term.App) *cobra.Command {
	var from, to string
	cmd := &cobra.Command{Use: "blobs copy --from PLACE --to PLACE",
		Short: "Move a blob store: copy its packs from a folder or bucket to another", Args: cobra.NoArgs,
		Long: `Copy all packs from one place to another: a folder or a bucket each. Every chunk is checked on the way, and what has arrived is read again and compared. Cut off, the
same command goes on. To move a store: copy while the service runs, as often as you like; end the service, copy once more, which takes only what is new; start the
service with --blobs NEW PLACE. The exit code is 7 where a chunk was damaged.`,
		Example: "  kembrel blobs copy --from /var/lib/kembrel/blobs --to 's3://kembrel/blobs?endpoint=https://s3.harbour:9000'",
		RunE: interruptible(func(ctx context.Context, _ []string) error {
			if from == "" || to == "" {
				return term.Usage("say from where and where to: --from PLACE --to PLACE")
			}
			source, err := blob.Open(ctx, from)
			if err != nil {
				return err
			}
			goal, err := blob.Open(ctx, to)
			if err != nil {
				return err
			}
			blobs, chunks, there, damaged, unknown := 0, 0, 0, 0, int64(0)
			var bytes int64
			add, done := func(int64) {}, func() {}
			begin := func(_ int, bytes int64) {
				m := a.Meter("blobs", bytes)
				add, done = m.Add, m.Done
			}
			err = pack.CopyAll(ctx, source, goal, begin, func(c pack.Copied) {
				add(c.Size)
				if c.There {
					there++
					return
				}
				blobs, chunks, bytes, damaged, unknown = blobs+1, chunks+c.Chunks, bytes+c.Size,
					damaged+len(c.Damaged), unknown+c.Unknown
			})
			done()
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%d blobs with %s copied, %d chunks in them checked; %d were there.\n", blobs,
				api.Bytes(bytes), chunks, there)
			if unknown > 0 {
				fmt.Fprintf(a.Out, "%s at the ends of packs are no chunks, as a crash leaves them.\n",
					api.Bytes(unknown))
			}
			if damaged > 0 {
				return term.Differs(fmt.Errorf("%d chunks are damaged, here as there; kembrel blobs check names the checkpoints", damaged))
			}
			return nil
		})}
	cmd.Flags().StringVar(&from, "from", "", "folder, or s3://BUCKET/PREFIX?endpoint=...")
	cmd.Flags().StringVar(&to, "to", "", "folder, or s3://BUCKET/PREFIX?endpoint=...")
	return cmd
}
