package stories

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/test/browser"
)

func (w *world) written(t *testing.T, run string) map[string]api.RunFile {
	t.Helper()
	var list struct{ Items []api.RunFile }
	w.decode(t, &list, "files", run, "-o", "json")
	out := map[string]api.RunFile{}
	for _, f := range list.Items {
		out[f.Path] = f
	}
	return out
}

// docs/files.md, as it is written: what a training writes is kept, shown, compared and written again.
func TestFilesDocument(t *testing.T) {
	t.Parallel()
	w := emptyHome(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	out := ""
	for _, block := range blocks(t, "docs/files.md", "sh") {
		out += w.sh(t, "docs/files.md", block)
	}
	require.Contains(t, out, "motor sailer")
}

// Files that match are kept at the end of a program, those that it wrote and no others, whatever lies beside them.
func TestFilesAreKept(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	old := filepath.Join(w.folder, "out", "old.csv")
	require.NoError(t, os.MkdirAll(filepath.Dir(old), 0o755))
	require.NoError(t, os.WriteFile(old, []byte("a,b\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(w.folder, "secret"), []byte("a key"), 0o600))
	program := `cd out && mkdir -p deep/er && echo "a,b
1,2" > new.csv && touch -d "2 days ago" new.csv && echo deep > deep/er/note.txt && ln -s ../secret link.csv && ln -s /etc/hostname far.csv && mkfifo pipe.csv &&
echo gone > "odd name é.csv" && ln -s new.csv near.csv && exit 3`
	cmd := w.recordWith([]string{"--keep", "out/*.csv", "--keep", "out/**/*.txt", "--keep", "nothing/*"}, "/bin/sh",
		"-c", program)
	_, errs, code := run(cmd)
	require.Equal(t, 3, code, errs)
	got := w.written(t, "vessels/1")
	var paths []string
	for p := range got {
		paths = append(paths, p)
	}
	require.ElementsMatch(t, []string{"out/new.csv", "out/near.csv", "out/odd name é.csv", "out/deep/er/note.txt",
		"out/link.csv"}, paths,
		"a link within the folder is its file; one that leaves it is not followed")
	require.Equal(t, "table", got["out/new.csv"].Kind)
	detail := w.show(t, "vessels/1")
	notes := ""
	for _, n := range detail.Notes {
		notes += n.Text + "\n"
	}
	require.Contains(t, notes, "There was no file nothing/* to keep.")
	require.Contains(t, notes, "1 files that were to be kept were there before the run")
	require.Equal(t, []string{"out/*.csv", "out/**/*.txt", "nothing/*"}, detail.Recipe.Keep)
	w.nothingWaits(t)

	require.Equal(t, "deep\n", w.kembrel(t, "files", "show", "vessels/1", "out/deep/er/note.txt"))
	into := filepath.Join(w.folder, "again")
	w.kembrel(t, "files", "restore", "vessels/1", "out/*.csv", "--into", into)
	content, err := os.ReadFile(filepath.Join(into, "out", "new.csv"))
	require.NoError(t, err)
	require.Equal(t, "a,b\n1,2\n", string(content))
	_, errs, code = w.try("files", "restore", "vessels/1", "--into", into)
	require.NotZero(t, code)
	require.Contains(t, errs, "is there already; --overwrite replaces it")
	w.kembrel(t, "files", "add", "vessels/1", filepath.Join(w.folder, "secret"))
	require.Equal(t, "text", w.written(t, "vessels/1")["secret"].Kind)
	w.kembrel(t, "files", "drop", "vessels/1", "secret")
	require.NotNil(t, w.written(t, "vessels/1")["secret"].Dropped)
	for want, args := range map[string][]string{
		"no file":          {"show", "vessels/1", "nothing"},
		"went on":          {"show", "vessels/1", "secret"},
		"is no plain file": {"add", "vessels/1", w.folder},
		"no such file":     {"add", "vessels/1", filepath.Join(w.folder, "nothing")},
		"say where":        {"restore", "vessels/1"},
		"has no such file": {"restore", "vessels/1", "*.pdf", "--into", into},
		"a run is wanted":  {"diff", "vessels/1", "vessels"},
	} {
		_, errs, code := w.try(append([]string{"files"}, args...)...)
		require.NotZero(t, code, args)
		require.Contains(t, errs, want, args)
	}
	for _, pattern := range []string{"/etc/*", "../*", "a[", ""} {
		_, errs, code := w.try("record", "--project", "vessels", "--keep", pattern, "--", "/bin/true")
		require.Equal(t, 2, code, pattern)
		require.Contains(t, errs, "--keep", pattern)
	}
}

// A program keeps files as they are at the moment, in Python; what cannot be kept costs itself.
func TestFilesFromPython(t *testing.T) {
	t.Parallel()
	w, _ := pythonWorld(t)
	train := w.script(t, "train.py", `
import os, kembrel
with kembrel.record("vessels") as run:
    open("results.txt", "w").write("first")
    print(run.file("results.txt"))
    open("results.txt", "w").write("second")
    print(run.file("results.txt", "later/results.txt"))
    os.mkfifo("pipe")
    for odd in ("nothing.txt", "pipe", ".", None, 7):
        print(run.file(odd))
    print(run.file("results.txt", "../out"), run.file("results.txt", "/etc/out"))
    run.readings(1, 1, {"loss.val": 0.5})
`)
	out, errs, code := run(w.record(train...))
	require.Zero(t, code, out+errs)
	require.Equal(t, []string{"True", "True", "False", "False", "False", "False", "False", "False", "False"},
		strings.Fields(out))
	got := w.written(t, "vessels/1")
	require.Len(t, got, 2)
	require.Equal(t, "first", strings.TrimSpace(w.kembrel(t, "files", "show", "vessels/1", "results.txt")))
	require.Equal(t, "second", strings.TrimSpace(w.kembrel(t, "files", "show", "vessels/1", "later/results.txt")))
	require.Contains(t, w.kembrel(t, "show", "vessels/1"), "0.5", "readings behind them are kept")
	w.nothingWaits(t)
}

// In the browser: what a run wrote is shown by its kind, and what evaluations found stands on the pages of the run and
// of its checkpoint.
func TestFilesAndEvaluationsInTheBrowser(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	_, errs, code := run(w.recordWith([]string{"--keep", "report/**"}, w.harbour, "train", "--hidden", "16", "--clips",
		"960", "--epochs", "2", "--report", "report"))
	require.Zero(t, code, errs)
	w.kembrel(t, "files", "add", "vessels/1", w.harbour)
	_, errs, code = w.try("evaluate", "vessels/1@last", "--data", "test", "--", w.harbour, "evaluate")
	require.Zero(t, code, errs)

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := w.kembrel(t, "sign-in", "--link")
	file := func(path string) string {
		return fmt.Sprintf(`[...document.querySelectorAll('#files button')].find(b => b.innerText === %q).click()`,
			path)
	}
	do(t, ctx, "sign in", chromedp.Navigate(strings.TrimSpace(link)), until(`document.querySelector('nav')`),
		chromedp.Navigate(w.url+"/vessels/1"), until(`document.querySelector('#files table')`))
	shows(t, ctx, `document.querySelector('#files').innerText`, "15 files")
	do(t, ctx, "a picture", act(file("report/clips/tug.png")),
		until(`document.querySelector('#files img')?.naturalWidth === 160`))
	do(t, ctx, "a sound", act(file("report/clips/tug.wav")),
		until(`document.querySelector('#files audio')?.duration > 1.9`))
	do(t, ctx, "a table", act(file("report/epochs.csv")))
	shows(t, ctx, `document.querySelector('#files .scroll').innerText`, "accuracy.val")
	do(t, ctx, "a text", act(file("report/report.txt")))
	shows(t, ctx, `document.querySelector('#files .scroll').innerText`, "Vessels by their sound")
	do(t, ctx, "found in it", act(`document.querySelector("#files input").focus()`), chromedp.KeyEvent("ferry"),
		chromedp.KeyEvent(kb.Enter))
	is(t, ctx, `document.querySelector('#files pre').innerText.trim().split('\n').length`, 1.0)
	shows(t, ctx, `location.search`, "find=ferry")
	do(t, ctx, "what is none of these", act(file("harbour")))
	shows(t, ctx, `document.querySelector('#files').innerText`, "no text, table, picture or sound")

	shows(t, ctx, `document.querySelector('#evaluations').innerText`, "480 examples")
	do(t, ctx, "more of it", act(`document.querySelector('#evaluations button').click()`))
	shows(t, ctx, `document.querySelector('#evaluations').innerText`, "balanced_accuracy")
	do(t, ctx, "the checkpoint", act(`document.querySelector('#evaluations td a').click()`),
		until(`document.querySelector('h1').innerText === 'vessels/1@e2'`))
	shows(t, ctx, `document.querySelector('#evaluations').innerText`, "480 examples")
	for _, look := range []string{"light", "dark"} {
		do(t, ctx, look, act(fmt.Sprintf(`localStorage.setItem('kembrel-theme', '%s')`, look)),
			chromedp.Navigate(w.url+"/vessels/1?file=0:report/report.txt"),
			until(`document.querySelector('#files pre')`),
			until(`document.querySelector('#evaluations table')`))
		require.Empty(t, axe(t, ctx), "files, %s", look)
	}
}
