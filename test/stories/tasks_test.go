package stories

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kembrel/test/browser"
)

// heard hands over answers of every task but one class: what is heard in a clip, what the radio says, hulls in sonar.
const heard = `
import kembrel, numpy
noise = numpy.random.default_rng(3)
names = ["tug", "ferry", "trawler", "cargo ship"]
with kembrel.record("vessels", title="What is heard") as run:
    truth = noise.random((120, 4)) < 0.4
    keys = [f"clip-{i:03d}" for i in range(120)]
    for epoch in (1, 2):
        run.readings(epoch, epoch, {"loss.val": 1 / epoch})
        scores = truth * 0.6 + noise.random((120, 4)) * 0.3
        scores[:, 3] *= 0.4
        assert run.predictions("val", keys, true=truth, scores=scores, classes=names, epoch=epoch, step=epoch,
            task="labels"), run.problem
with kembrel.record("vessels", title="What the radio says") as run:
    run.readings(1, 1, {"loss.val": 1})
    said = ["wind north four", "fog in the outer roads", "tug to berth nine"]
    assert run.predictions("val", range(3), true=said, predicted=["wind north for", said[1], "tug to berth five"],
        epoch=1, step=1, task="text"), run.problem
with kembrel.record("vessels", title="Hulls in sonar") as run:
    run.readings(1, 1, {"loss.val": 1})
    masks = numpy.zeros((6, 12, 12), "int64")
    masks[:, 4:8, 3:9] = 1
    pictures = masks * 50 + noise.random((6, 12, 12))
    assert run.predictions("val", [f"ping-{i}" for i in range(6)], true=masks, predicted=numpy.roll(masks, 1, 2),
        classes=["water", "hull"], media={"picture": pictures}, epoch=1, step=1), run.problem
`

// Several labels, texts and masks go the whole way: from a program's arrays to figures, the terminal and the pages.
func TestTasksOfPredictions(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	bindings, err := filepath.Abs("../../bindings/python")
	require.NoError(t, err)
	w.env = append(w.env, "PYTHONPATH="+bindings)
	require.NoError(t, os.WriteFile(w.folder+"/heard.py", []byte(heard), 0o644))
	out, errs, code := run(w.command("/usr/bin/python3", "heard.py"))
	require.Zero(t, code, out+errs)
	w.nothingWaits(t)

	for run, want := range map[string][]string{
		"vessels/1": {"! cargo ship is never answered", "Cargo ship missed, and nothing said in its place",
			"Hamming loss"},
		"vessels/2": {"exact match", "character error rate", "word error rate"},
		"vessels/3": {"Hull taken for water: 24 of 144 pixels (17 %).", "IoU, mean of classes", "pixel accuracy"},
	} {
		says := w.kembrel(t, "predictions", "show", run)
		for _, text := range want {
			require.Contains(t, says, text, run)
		}
	}
	require.Contains(t, w.kembrel(t, "predictions", "vessels/1", "--where", `"cargo ship" in missed`, "--order",
		"error"),
		"cargo ship")
	require.Contains(t, w.kembrel(t, "predictions", "vessels/2", "--order", "error", "--limit", "1"),
		"tug to berth five")
	require.Contains(t, w.kembrel(t, "confusion", "vessels/1"), `missed \ added`)
	require.Contains(t, w.kembrel(t, "confusion", "vessels/3"), "120")
	_, errs, code = w.try("confusion", "vessels/2")
	require.NotZero(t, code)
	require.Contains(t, errs, "of the task text")

	table := w.folder + "/answers.csv"
	require.NoError(t, os.WriteFile(table, []byte("key,true,predicted\na,tug;ferry,tug\nb,;,;\nc,ferry,ferry\n"),
		0o644))
	out = w.kembrel(t, "predictions", "add", table, "--run", "vessels/1", "--epoch", "2", "--split", "test", "--task",
		"labels", "--yes")
	require.Contains(t, out, "exact match 0.667")

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := w.kembrel(t, "sign-in", "--link")
	do(t, ctx, "sign in", chromedp.Navigate(strings.TrimSpace(link)), until(`document.querySelector('nav')`))
	for run, page := range map[int][3]string{
		1: {"predictions/2?example=1", "Cargo ship missed", "missed"},
		2: {"predictions/1?example=2&order=error", "exact match", "mark"},
		3: {"predictions/1?example=0", "Hull taken for water", "Side by side"},
	} {
		do(t, ctx, page[0], chromedp.Navigate(fmt.Sprintf("%s/vessels/%d/%s", w.url, run, page[0])),
			until(`document.querySelector('.one .marks')`))
		shows(t, ctx, `document.body.innerHTML`, page[1])
		shows(t, ctx, `document.querySelector('main').innerHTML`, page[2])
		require.Empty(t, axe(t, ctx), page[0])
	}
	do(t, ctx, "a cell", chromedp.Navigate(w.url+"/vessels/1/predictions/2"),
		until(`document.querySelectorAll('svg[role=application] .cell').length === 25`),
		act(`[...document.querySelectorAll('svg[role=application] .cell')].at(-6).dispatchEvent(new MouseEvent('click', {bubbles: true}))`))
	shows(t, ctx, `new URLSearchParams(location.search).get('where')`, `"cargo ship" in missed`)
	shows(t, ctx, `location.search`, "order=error")
}
