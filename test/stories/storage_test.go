package stories

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/store/cluster"
	"kembrel/test/browser"
	"kembrel/test/buckets"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// train records a short run whose checkpoints are copied into keep, and returns its best checkpoint's address.
func (w *world) train(t *testing.T, keep string, more ...string) string {
	t.Helper()
	_, errs, code := run(w.record(append([]string{w.harbour, "train", "--hidden", "24", "--clips", "480", "--epochs",
		"6", "--keep", keep}, more...)...))
	require.Zero(t, code, errs)
	number := strings.Count(w.kembrel(t, "runs", "vessels", "--output", "csv"), "\nvessels/")
	return fmt.Sprintf("vessels/%d@last", number)
}

// restoresTo looks whether a checkpoint comes back as the program saved it.
func (w *world) restoresTo(t *testing.T, checkpoint, keep string) {
	t.Helper()
	into := t.TempDir() + "/model"
	w.kembrel(t, "restore", checkpoint, "--into", into)
	files, err := filepath.Glob(keep + "/e6/*")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		want, err := os.ReadFile(f)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(into, filepath.Base(f)))
		require.NoError(t, err)
		require.Equal(t, want, got, f)
	}
}

// tables reads every table of a database that nobody uses, each as a digest of its rows.
func tables(t *testing.T, data string) map[string]string {
	ctx := t.Context()
	url, err := cluster.Running(filepath.Join(data, "postgres"))
	require.NoError(t, err)
	require.Empty(t, url, "nobody uses it")
	db, err := cluster.Start(ctx, filepath.Join(data, "postgres"), quiet)
	require.NoError(t, err)
	defer db.Stop()
	conn, err := pgx.Connect(ctx, db.URL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	rows, err := conn.Query(ctx,
		"select format('%I.%I', schemaname, tablename) from pg_tables where schemaname not in ('pg_catalog', 'information_schema')")
	require.NoError(t, err)
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	out := map[string]string{}
	for _, name := range names {
		var digest string
		require.NoError(t, conn.QueryRow(ctx,
			"select count(*) || ' rows ' || coalesce(md5(string_agg(t::text, '|' order by t::text)), '') from "+name+" t").Scan(&digest))
		out[name] = digest
	}
	return out
}

// A backup of a running service holds all that its database knows; restored into an empty place everything is the same.
// What is there already is not copied again.
func TestBackup(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	keep, into := w.folder+"/keep", w.folder+"/backup"
	first := w.train(t, keep)
	require.Contains(t, w.kembrel(t, "backup", "--into", into), "Backup ")
	// saves while the next is made
	going := w.record(w.harbour, "train", "--hidden", "48", "--clips", "1920", "--epochs", "30")
	require.NoError(t, going.Start())
	require.Eventually(t, func() bool {
		out, _, _ := w.try("checkpoints", "vessels/2", "--output", "csv")
		return strings.Count(out, "\n") > 3
	}, time.Minute, 100*time.Millisecond)
	out := w.kembrel(t, "backup", "--into", into)
	require.NoError(t, going.Wait())

	other := newWorld(t)
	require.Contains(t, other.kembrel(t, "restore-backup", into), "every digest checked", out)
	other.start(t)
	require.Contains(t, other.kembrel(t, "blobs", "check"), "are what they are named by")
	other.restoresTo(t, first, keep)
	require.Greater(t, strings.Count(other.kembrel(t, "checkpoints", "vessels/2", "--output", "csv"), "\n"), 3)
	other.kembrel(t, "restore", "vessels/2@last", "--into", other.folder+"/last")
	require.Equal(t, w.kembrel(t, "export", "vessels/1"), other.kembrel(t, "export", "vessels/1"))
	other.train(t, other.folder+"/keep")
	_, errs, code := other.try("restore-backup", into)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "not empty")

	w.stop(t, syscall.SIGINT)
	w.kembrel(t, "backup", "--into", into, "--keep", "1") // of one that nobody runs
	require.Equal(t, 1, strings.Count(w.kembrel(t, "backup", "--into", into, "--list"), "\n"))
	third := newWorld(t)
	third.kembrel(t, "restore-backup", into)
	require.Equal(t, tables(t, w.folder+"/data"), tables(t, third.folder+"/data"))

	packs, err := filepath.Glob(into + "/pack/*")
	require.NoError(t, err)
	flip(t, packs[0])
	fourth := newWorld(t)
	_, errs, code = fourth.try("restore-backup", into)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "is damaged")
	_, errs, code = fourth.try("restore-backup", w.folder+"/nothing")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "no folder")
	_, errs, code = fourth.try("backup")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "--into")
}

// flip changes a bit in the middle of a file.
func flip(t *testing.T, path string) {
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	content[len(content)/2] ^= 1
	require.NoError(t, os.WriteFile(path, content, 0o600))
}

// A store is moved from the disk into a bucket, by copying while the service runs and once more after; then the service
// keeps its blobs there.
func TestMovingTheStoreIntoABucket(t *testing.T) {
	place := buckets.New(t, "kembrel")
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	keep, blobs := w.folder+"/keep", w.folder+"/data/blobs"
	first := w.train(t, keep)
	require.Contains(t, w.kembrel(t, "blobs", "copy", "--from", blobs, "--to", place), "1 blobs with")
	second := w.train(t, w.folder+"/keep2", "--seed", "5")
	w.stop(t, syscall.SIGINT)
	w.kembrel(t, "blobs", "copy", "--from", blobs, "--to", place)
	require.Contains(t, w.kembrel(t, "blobs", "copy", "--from", blobs, "--to", place), "0 blobs with 0 B copied")
	require.NoError(t, os.RemoveAll(blobs))
	w.env = append(w.env, "KEMBREL_BLOBS="+place)
	w.start(t)
	third := w.train(t, w.folder+"/keep3", "--seed", "6")
	for i, c := range []string{first, second, third} {
		w.restoresTo(t, c, []string{keep, w.folder + "/keep2", w.folder + "/keep3"}[i])
	}
	require.Contains(t, w.kembrel(t, "blobs", "check"), "are what they are named by")
	_, err := os.Stat(blobs)
	require.ErrorIs(t, err, os.ErrNotExist, "nothing is kept on the disk")

	back := w.folder + "/back"
	w.kembrel(t, "blobs", "copy", "--from", place, "--to", back)
	packs, err := filepath.Glob(back + "/pack/*")
	require.NoError(t, err)
	flip(t, packs[0])
	_, errs, code := w.try("blobs", "copy", "--from", back, "--to", w.folder+"/again")
	require.Equal(t, 7, code)
	require.Contains(t, errs, "damaged")
	_, errs, code = w.try("blobs", "copy", "--from", back)
	require.Equal(t, 2, code)
	require.Contains(t, errs, "--to")
}

// The page Storage draws what uses the space; a rule is tried and set there, a checkpoint pinned and dropped on its
// run's page, in the browser and with nobody kept out.
func TestStoragePage(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	w.train(t, w.folder+"/keep", "--save-every", "1")
	w.train(t, w.folder+"/keep", "--save-every", "1", "--seed", "5")
	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := strings.TrimSpace(w.kembrel(t, "sign-in", "--link"))
	do(t, ctx, "enter", chromedp.Navigate(link), chromedp.WaitVisible(`tbody a[href="/vessels"]`))
	do(t, ctx, "open the storage of all", chromedp.Navigate(w.url+"/storage"),
		chromedp.WaitVisible(`tbody a[href="/vessels/storage"]`))
	do(t, ctx, "open that of the project", chromedp.Click(`tbody a[href="/vessels/storage"]`),
		chromedp.WaitVisible(".keep circle"))
	shows(t, ctx, "document.querySelector('main').innerText", "12 checkpoints of")
	shows(t, ctx, "document.querySelector('.keep [role=status]').innerText",
		"Nothing is to be deleted: 12 checkpoints stay")
	do(t, ctx, "try the last one", chromedp.Click(".keep label:nth-of-type(2) .el-input-number__increase"),
		chromedp.Click(`.keep button[type="submit"]`),
		until(`document.querySelector('.keep [role=status]').innerText.includes('10 checkpoints are to be deleted')`))
	require.Contains(t, w.kembrel(t, "keep", "vessels"), "all checkpoints stay", "trying changes nothing")
	is(t, ctx, "document.querySelectorAll('.keep a path').length", 10, "crosses go")
	for _, look := range []string{"light", "dark"} {
		do(t, ctx, look, act(fmt.Sprintf(`localStorage.setItem('kembrel-theme', '%s')`, look)),
			chromedp.Navigate(w.url+"/vessels/storage"), chromedp.WaitVisible(".keep circle"),
			chromedp.Sleep(300*time.Millisecond))
		require.Empty(t, axe(t, ctx), "storage, %s", look)
	}
	do(t, ctx, "set it", chromedp.Click(".keep label:nth-of-type(2) .el-input-number__increase"),
		chromedp.Click(".keep .el-button--primary"),
		until(`document.querySelector('main').innerText.includes('The rule keeps the last')`))
	require.Contains(t, w.kembrel(t, "keep", "vessels"), "keeps the last")
	require.Contains(t, w.kembrel(t, "checkpoints", "vessels/1"), "to be deleted")

	act := func(checkpoint, what string) {
		t.Helper()
		item := `[...document.querySelectorAll('.el-dropdown-menu__item')].find(i => i.offsetParent && i.innerText.startsWith('` + what + `'))`
		do(t, ctx, what, chromedp.Click(`button[aria-label="Actions on vessels/1@`+checkpoint+`"]`), until(`!!`+item),
			chromedp.Sleep(300*time.Millisecond),
			act(item+`.click()`),
			until(`![...document.querySelectorAll('.el-dropdown-menu__item')].some(i => i.offsetParent)`))
	}
	soon := func(shows bool, checkpoint, what string) {
		t.Helper()
		require.Eventually(t, func() bool {
			out, _, _ := w.try("show", "vessels/1@"+checkpoint)
			return strings.Contains(out, what) == shows
		}, 60*time.Second, 100*time.Millisecond, "%s: %s", checkpoint, what)
	}
	do(t, ctx, "open the run", chromedp.Navigate(w.url+"/vessels/1#what-came-out"),
		chromedp.WaitVisible(`button[aria-label="Actions on vessels/1@e5"]`))
	act("e5", "Bring it back")
	soon(true, "e5", "pinned")
	act("e6", "Drop its bytes")
	soon(true, "e6", "to be deleted ")
	do(t, ctx, "see that it goes",
		until(`[...document.querySelectorAll('#what-came-out td')].some(d => d.innerText.includes('@e6') && d.innerText.includes('to be deleted'))`))
	act("e6", "Bring it back")
	soon(false, "e6", "to be deleted ")
	do(t, ctx, "all menus are closed", chromedp.Sleep(time.Second),
		until(`![...document.querySelectorAll('.el-dropdown-menu__item')].some(i => i.offsetParent)`))
	require.Empty(t, axe(t, ctx), "a run whose checkpoints go")
	w.kembrel(t, "drop", "--days", "0", "vessels/1@e6")
	require.Eventually(t, func() bool {
		_, errs, code := w.try("restore", "vessels/1@e6", "--into", w.folder+"/gone")
		return code == 3 && strings.Contains(errs, "are gone")
	}, 60*time.Second, 200*time.Millisecond)
	require.Contains(t, w.kembrel(t, "storage", "vessels/1"), "dropped")
	require.Contains(t, w.kembrel(t, "storage"), "together")
	for line, says := range map[string]string{
		"keep set vessels":                    "say what stays",
		"keep set vessels --all":              "--all is for a run",
		"keep set vessels/1@e2 --best 1":      "is a checkpoint",
		"keep set vessels --best -1":          "numbers from 0 up",
		"keep try vessels/1 other/2 --best 1": "different projects",
		"drop vessels/1":                      "a checkpoint is wanted",
		"drop --days 999 vessels/1@e2":        "from 0 to 365",
		"pin":                                 "say which checkpoints",
		"storage vessels/1@e2":                "neither a project nor a run",
		"spool drop":                          "say which spools",
	} {
		_, errs, code := w.try(strings.Fields(line)...)
		require.Equal(t, 2, code, line)
		require.Contains(t, errs, says, line)
	}
}

// A file of a kind we do not know is cut by its content where that is asked for: with a line put in at its beginning
// nearly nothing of it is new.
func TestCutByContent(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	content := make([]byte, 12<<20)
	rand.NewChaCha8([32]byte{4}).Read(content)
	stored := func(flags ...string) (bytes int64) {
		for _, head := range []string{"", "a line\n"} {
			require.NoError(t, os.WriteFile(w.folder+"/state", append([]byte(head), content...), 0o600))
			cmd := w.command(w.binary, append(append([]string{"record", "--project", "vessels"}, flags...),
				"--", os.Args[0])...)
			cmd = w.speakAs(cmd, `{"kind":"hello","id":1,"protocol":1}`,
				`{"kind":"checkpoint","do":"begin","id":2,"step":1}`, "copy "+w.folder+"/state",
				`{"kind":"checkpoint","do":"commit","id":3,"checkpoint":"KEY","parts":{"weights":["state"]}}`)
			out, errs, code := run(cmd)
			require.Zero(t, code, out+errs)
		}
		var s api.StorageSizes
		w.decode(t, &s, "storage", "-o", "json")
		return s.Total.Stored
	}
	fixed := stored()
	require.Greater(t, fixed, int64(24<<20), "cut at fixed places all of it is new")
	by := stored("--cut-by-content") - fixed
	require.Less(t, by, int64(16<<20))
	require.Greater(t, by, int64(12<<20))
}
