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

// The same clips, split by clip and split by voyage: the leak is found and named, a run's data is known by the clips
// that it reads, and what its validation figure is worth is said, in the terminal and in the browser.
func TestDataThatLeaks(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	clips := w.folder + "/clips"
	out, errs, code := run(w.command(w.harbour, "data", "--into", clips))
	require.Zero(t, code, out, errs)
	for i, by := range []string{"clip", "voyage"} {
		out := w.kembrel(t, "data", "add", "hydrophone", "--table", clips+"/by-"+by+".csv", "--map", "voyage=group",
			"--keep-bytes", "--yes")
		require.Contains(t, out, fmt.Sprintf("hydrophone#%d  3,360 items", i+1))
		_, errs, code := run(w.recordWith([]string{"--title", "Split by " + by}, w.harbour, "train",
			"--split", by, "--data",
			"--hidden", "8", "--epochs", "2"))
		require.Zero(t, code, errs)
	}
	w.nothingWaits(t)
	require.Contains(t, w.kembrel(t, "data", "add", "hydrophone", "--table", clips+"/by-clip.csv",
		"--map", "voyage=group",
		"--yes"), "hydrophone#1 has these items already")

	require.Contains(t, w.kembrel(t, "data", "show", "hydrophone"), "Its snapshots, the latest first")
	require.NotContains(t, w.kembrel(t, "data", "show", "hydrophone#2"), "Its snapshots")
	var leaky, honest api.Snapshot
	w.decode(t, &leaky, "data", "show", "hydrophone#1", "-o", "json")
	w.decode(t, &honest, "data", "show", "hydrophone", "-o", "json")
	require.Equal(t, "hydrophone#2", honest.Address, "the latest")
	require.Equal(t, int64(345), leaky.Found.Crossings[0].Shared)
	require.Contains(t, leaky.Answers.Trust, "No. val: 960 of its 960 items (100 %)")
	require.Contains(t, leaky.Answers.Trust, "345 groups are in both train and val")
	require.Contains(t, honest.Answers.Trust, "Yes: no item is in two splits")
	require.Contains(t, honest.Answers.Changed, "1,314 moved")
	require.Contains(t, leaky.Answers.Looked, "2 looks by 1 model")
	_, errs, code = w.try("data", "check", "hydrophone#1")
	require.Equal(t, 7, code, errs)
	require.Contains(t, w.kembrel(t, "data", "check", "hydrophone#2"), "nothing was found")

	show := w.show(t, "vessels/1")
	require.Equal(t, []string{"hydrophone#1:train", "hydrophone#1:val", "hydrophone#1:test"},
		[]string{show.Data[0].Data, show.Data[1].Data, show.Data[2].Data}, "known by the clips that it read")
	require.Contains(t, strings.Join(show.Warnings, "\n"), "Its figures on val cannot be trusted: 960 of the 960 items")
	require.Empty(t, w.show(t, "vessels/2").Data[1].Leaking)
	_, errs, code = w.try("restore", "vessels/1@last", "--into", w.folder+"/model")
	require.Zero(t, code, errs)
	require.Contains(t, errs, "It was trained on hydrophone#1:train.")
	require.Contains(t, errs, "! Its figures on val cannot be trusted: 960 of the 960 items")
	require.Contains(t, w.kembrel(t, "runs", "vessels", "--where", `"hydrophone#1" in data`), "Split by clip")
	require.NotContains(t, w.kembrel(t, "runs", "vessels", "--where", `"hydrophone#1" in data`), "Split by voyage")
	require.Contains(t, w.kembrel(t, "runs", "vessels", "--where", `data.val == "hydrophone#2:val"`), "Split by voyage")
	require.Contains(t, w.kembrel(t, "compare", "vessels/1", "vessels/2"), "hydrophone#2:val")

	tugs := w.folder + "/tugs.csv"
	w.kembrel(t, "data", "items", "hydrophone#1", "--where", `label == "tug" && "same-group" in found`, "--to", tugs)
	content, err := os.ReadFile(tugs)
	require.NoError(t, err)
	require.Contains(t, string(content), "voyage0000000/tug-1.npy")
	require.NotContains(t, string(content), "ferry")
	_, errs, code = w.try("data", "items", "hydrophone#1", "--to", tugs)
	require.NotZero(t, code)
	require.Contains(t, errs, "exists")
	_, errs, code = w.try("data", "items", "hydrophone#1", "--where", `weather == "fog"`)
	require.NotZero(t, code)
	require.Contains(t, errs, "the fields of an item are")

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := w.kembrel(t, "sign-in", "--link")
	do(t, ctx, "sign in", chromedp.Navigate(strings.TrimSpace(link)), until(`document.querySelector('nav')`),
		chromedp.Navigate(w.url+"/data"), until(`document.body.innerText.includes('hydrophone#2')`),
		chromedp.Navigate(w.url+"/data/hydrophone/1"))
	shows(t, ctx, `document.body.innerText`, "345 groups are in both train and val")
	is(t, ctx, `document.title`, "hydrophone#1 · Kembrel")
	do(t, ctx, "list the leaking items",
		act(`[...document.querySelectorAll('button')].find(b => b.innerText === 'list them').click()`))
	shows(t, ctx, `document.body.innerText`, "2,760 of 3,360 items")
	do(t, ctx, "show one",
		act(`[...document.querySelectorAll('button')].find(b => b.innerText.includes('tug-1.npy')).click()`),
		until(`document.querySelector('canvas')?.width === 16`))
	shows(t, ctx, `document.body.innerText`, "24 × 16")
	shows(t, ctx, `location.search`, "same-group")
	here := await[string](t, ctx, `location.href`, nil)
	for _, look := range []string{"light", "dark"} {
		do(t, ctx, look, act(fmt.Sprintf(`localStorage.setItem('kembrel-theme', '%s')`, look)), chromedp.Navigate(here),
			until(`document.querySelector('canvas')?.width === 16`))
		require.Empty(t, axe(t, ctx), "a snapshot, %s", look)
	}
	do(t, ctx, "the run", chromedp.Navigate(w.url+"/vessels/1"),
		until(`document.body.innerText.includes('hydrophone#1:val')`))

	// where it comes from, by mouse and keys
	require.Contains(t, w.kembrel(t, "lineage", "vessels/1"), "used for train, val, test")
	provn := w.kembrel(t, "lineage", "vessels/1", "--to", w.folder+"/lineage.provn")
	require.Empty(t, provn)
	content, err = os.ReadFile(w.folder + "/lineage.provn")
	require.NoError(t, err)
	require.Contains(t, string(content),
		`used(here:vessels/1, here:hydrophone#1, -, [kembrel:split="hydrophone#1:val", `)
	do(t, ctx, "its lineage",
		act(`[...document.querySelectorAll('a')].find(a => a.textContent.startsWith('Where does it come from')).click()`),
		until(`document.querySelectorAll('g.node').length === 2`))
	shows(t, ctx, `document.body.innerText`, "It comes from the snapshot hydrophone#1.")
	do(t, ctx, "the data by keys", act(`document.querySelector('g.node.of').focus()`), chromedp.KeyEvent(kb.ArrowLeft),
		until(`document.querySelector('.picked').innerText.includes('hydrophone#1')`))
	do(t, ctx, "its own lineage",
		act(`[...document.querySelectorAll('a')].find(a => a.textContent.trim() === 'its own lineage').click()`),
		until(`document.title === 'Lineage of hydrophone#1 · Kembrel' && document.querySelector('g.node.of.snapshot')`))
	here = await[string](t, ctx, `location.href`, nil)
	for _, look := range []string{"light", "dark"} {
		do(t, ctx, look, act(fmt.Sprintf(`localStorage.setItem('kembrel-theme', '%s')`, look)), chromedp.Navigate(here),
			until(`document.querySelectorAll('g.node').length === 2`))
		require.Empty(t, axe(t, ctx), "lineage, %s", look)
	}
	do(t, ctx, "what is not there", chromedp.Navigate(w.url+"/lineage?of=hydrophone%239"),
		until(`document.querySelector('[role=alert]')?.innerText.includes('there is no hydrophone#9')`))
}

// Folders, changes, and what is wrong with them: nothing half made, each said where it is.
func TestDataFromFoldersAndChanges(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	folder := w.folder + "/sounds"
	put := func(path, content string) {
		path = filepath.Join(folder, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	pattern := `(?P<split>train|val)/(?P<group>voyage\d+)/(?P<label>\w+)-(?P<station>[a-z]+)\.txt$`
	require.NoError(t, os.MkdirAll(folder, 0o755))
	_, errs, code := w.try("data", "add", "reports", "--from", folder)
	require.NotZero(t, code)
	require.Contains(t, errs, "has no file that would be an item")
	put("train/voyage1/tug-quay.txt", "The tug passes the mole at noon.")
	put("train/voyage2/ferry-quay.txt", "A ferry comes in from the north.")
	put("val/voyage1/tug-mole.txt", "the tug passes the mole, at noon")
	put("val/voyage3/trawler-mole.txt", "The trawler waits for the tide.")
	put("notes.md", "not an item")
	put("train/voyage2/ferry-blank.txt", "")
	require.NoError(t, os.Symlink("/etc/hostname", folder+"/train/voyage2/ferry-out.txt"))
	out, errs, code := w.try("data", "add", "reports", "--from", folder, "--split-from-path", pattern, "--keep-bytes")
	require.Zero(t, code, errs)
	require.Contains(t, out, "reports#1  5 items")
	require.Contains(t, errs, "left out: the pattern does not match notes.md")
	require.Contains(t, errs, "ferry-out.txt is a link that leads out of the folder")
	check, _, code := w.try("data", "check", "reports#1")
	require.Equal(t, 7, code)
	for _, want := range []string{"same-group", "nearly-same", "empty"} {
		require.Contains(t, check, want)
	}
	require.Contains(t, w.kembrel(t, "data", "items", "reports", "--where", `station == "mole"`), "trawler-mole.txt")

	changes := w.folder + "/changes.csv"
	require.NoError(t, os.WriteFile(changes,
		[]byte("key,split,gone\nval/voyage1/tug-mole.txt,train,\ntrain/voyage2/ferry-blank.txt,,yes\n"), 0o644))
	require.Contains(t, w.kembrel(t, "data", "add", "reports", "--change", "reports#1", "--table", changes, "--yes"),
		"reports#2  4 items")
	require.Contains(t, w.kembrel(t, "data", "diff", "reports#1", "reports#2"),
		"1 gone (most ferry, 1), 1 moved (most val → train, 1); 3 as before")
	require.Contains(t, w.kembrel(t, "data", "check", "reports"), "nothing was found")
	var got api.Snapshot
	w.decode(t, &got, "data", "show", "reports", "-o", "json")
	require.Equal(t, "reports#1", got.Base)
	require.EqualValues(t, 4, got.Kept, "their bytes are still kept")

	for content, want := range map[string]string{
		"key,split\na,train\na,val\n":        "1 items have the key of another; keys are unique: a",
		"key,split\na,train\nb,No Way\n":     "1 row makes no items, so nothing was made",
		"key,depth\na,3\nb,deep\n":           "",
		"key\n":                              "there is no row in it",
		"key,gone\na,yes\n":                  `a column "gone" belongs to a --change`,
		"key,split,label,extra\na,train,x\n": "wrong number of fields",
	} {
		require.NoError(t, os.WriteFile(changes, []byte(content), 0o644))
		_, errs, code := w.try("data", "add", "odd", "--table", changes, "--yes")
		if want == "" {
			require.Zero(t, code, errs)
			continue
		}
		require.NotZero(t, code, content)
		require.Contains(t, errs, want)
	}
	require.NoError(t, os.WriteFile(changes, []byte("key,gone\nnever.txt,yes\n"), 0o644))
	_, errs, code = w.try("data", "add", "reports", "--change", "reports#1", "--table", changes, "--yes")
	require.NotZero(t, code, errs)
	for _, bad := range [][]string{{"data", "show", "never"}, {"data", "show", "reports#9"},
		{"data", "show", "Reports#1"},
		{"data", "add", "reports"}, {"data", "add", "reports", "--from", folder, "--split-from-path", "("},
		{"data", "diff", "reports#1", "odd#1"}, {"data", "show", "reports#1:val"},
		{"record", "--project", "vessels", "--data", "val", "--", "true"}} {
		_, errs, code := w.try(bad...)
		require.NotZero(t, code, bad)
		require.NotContains(t, errs, "goroutine")
	}
	// data that is not known costs itself, and is seen on the run
	w.kembrel(t, "projects", "create", "vessels")
	_, errs, code = run(w.recordWith([]string{"--data", "train=reports#2:train", "--data", "val=never#1:val"}, "true"))
	require.Zero(t, code, errs)
	w.nothingWaits(t)
	show := w.show(t, "vessels/1")
	require.Equal(t, "reports#2:train", show.Data[0].Data)
	require.Empty(t, show.Data[1].Data)
	require.Contains(t, show.Notes[0].Text, `"never#1:val", is no snapshot that is known`)
}

// A program in Python names its data or hands over what it reads, one by one; whatever it is given, it goes on.
func TestDataFromPython(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	table := w.folder + "/items.csv"
	var lines strings.Builder
	lines.WriteString("key,split,voyage\n")
	for n := range 7000 {
		fmt.Fprintf(&lines, "clip%04d,%s,voyage%d\n", n, map[bool]string{true: "val",
			false: "train"}[n/100%7 == 6], n/10)
	}
	require.NoError(t, os.WriteFile(table, []byte(lines.String()), 0o644))
	w.kembrel(t, "data", "add", "hydrophone", "--table", table, "--map", "voyage=group", "--yes")
	program := w.script(t, "data.py", `
import kembrel
with kembrel.record("vessels") as run:
    run.data(train="hydrophone#1:train")
    run.data("val", keys=(f"clip{n:04d}" for n in reversed(range(7000)) if n // 100 % 7 == 6), dataset="hydrophone")
    run.data("part", keys=[f"clip{n:04d}" for n in range(50)])
    for odd in (lambda: run.data(5), lambda: run.data("val2", keys=3), lambda: run.data("Bad Use", keys=["a"]),
                lambda: run.data("few", keys=["a", "b"], digests=["x"]), lambda: run.data("one", keys=[None, 7,
	b"x" * 32]),
                lambda: run.data(other=object()), lambda: run.data("none", keys=[]), lambda: run.data("dig",
	digests=[b"y" * 32])):
        odd()
    run.readings(1, 1, {"loss.val": 0.5})
print("went on")
`)
	out, errs, code := run(w.record(program...))
	require.Zero(t, code, errs)
	require.Contains(t, out, "went on")
	w.nothingWaits(t)
	show := w.show(t, "vessels/1")
	got := map[string]string{}
	for _, u := range show.Data {
		got[u.Use] = fmt.Sprint(u.Data, " ", u.Items)
	}
	require.Equal(t, "hydrophone#1:train 6000", got["train"])
	require.Equal(t, "hydrophone#1:val 1000", got["val"])
	require.Equal(t, " 50", got["part"], "no split is so")
	require.Equal(t, " 3", got["one"])
	require.Equal(t, "finished", show.State)
	var notes []string
	for _, n := range show.Notes {
		notes = append(notes, n.Text)
	}
	require.Contains(t, strings.Join(notes, "\n"), "What it used for part, 50 items, is no snapshot that is known.")
}
