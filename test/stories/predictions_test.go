package stories

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/test/browser"
)

// docs/predictions.md, as it is written: a training that goes wrong unseen is told by what it answers; its predictions
// go out into a file and come back from it.
func TestPredictionsDocument(t *testing.T) {
	t.Parallel()
	w := emptyHome(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	out := ""
	for _, block := range blocks(t, "docs/predictions.md", "sh") {
		out += w.sh(t, "docs/predictions.md", block)
	}
	for _, said := range blocks(t, "docs/predictions.md", "text") {
		for _, line := range strings.Split(strings.TrimSpace(said), "\n") {
			// a sheet is held against a curve within seconds of it
			require.Eventually(t, func() bool {
				return strings.Contains(w.kembrel(t, "predictions", "show", "vessels/1", "--split", "val"), line)
			}, 60*time.Second, 200*time.Millisecond, line)
		}
	}
	require.Contains(t, out, "the score of cargo ship")
	relabelled, err := os.ReadFile(w.folder + "/relabelled.csv")
	require.NoError(t, err)
	require.Equal(t, "key,label\nvoyage1000002/tug-1.npy,ferry\n", string(relabelled))

	answers, err := os.ReadFile(w.folder + "/answers.csv")
	require.NoError(t, err)
	require.Equal(t, 961, strings.Count(string(answers), "\n"))
	var sheets []api.Sheet
	w.decode(t, &sheets, "predictions", "vessels/1", "-o", "json")
	require.Len(t, sheets, 4, "three of the training, one of the file")
	require.Equal(t, "answers.csv", sheets[0].Source)
	var back api.SheetDetail
	w.decode(t, &back, "predictions", "show", "vessels/1", "--split", "test", "-o", "json")
	require.Equal(t, sheets[1].Figures[4:], back.Figures[4:], "the same scores give the same figures")

	for want, args := range map[string][]string{
		"say for which checkpoint": {"add", "answers.csv", "--run", "vessels/1"},
		"has no checkpoint":        {"add", "answers.csv", "--run", "vessels/1", "--at", "@e77", "--yes"},
		"is not column=meaning": {"add", "answers.csv", "--run", "vessels/1", "--epoch", "1", "--map", "key",
			"--yes"},
		"has no column": {"add", "answers.csv", "--run", "vessels/1", "--epoch", "1", "--map", "x=key",
			"--yes"},
		"tables end in":             {"add", "answers.txt", "--run", "vessels/1", "--epoch", "1", "--yes"},
		"no such file":              {"add", "none.csv", "--run", "vessels/1", "--epoch", "1", "--yes"},
		"has no sheet 9":            {"show", "vessels/1", "--sheet", "9"},
		"up to epoch 1":             {"show", "vessels/1", "--epoch", "1"},
		"the fields of an example":  {"vessels/1", "--where", `weather == "fog"`},
		"cannot be ordered":         {"vessels/1", "--order", "error"},
		"there is no run vessels/7": {"vessels/7"},
	} {
		_, errs, code := w.try(append([]string{"predictions"}, args...)...)
		require.NotZero(t, code, args)
		require.Contains(t, errs, want, args)
	}
}

// In the browser: a run says what it gets wrong, a cell leads to its examples, one of them is shown large with its
// sound.
func TestPredictionsInTheBrowser(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	for _, fault := range []string{"", "silent"} {
		_, errs, code := run(w.recordWith([]string{"--title", "Fault " + fault}, w.harbour, "train", "--hidden", "16",
			"--clips", "960", "--epochs", "4", "--sheets", "2", "--fault", fault))
		require.Zero(t, code, errs)
	}
	w.nothingWaits(t)
	require.Contains(t, w.kembrel(t, "predictions", "vessels/1", "--disagree", "vessels/2"), "exact McNemar test")
	require.Contains(t, w.kembrel(t, "follow", "vessels/2"),
		"! Predictions on val at epoch 4: motor sailer is never answered")

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := w.kembrel(t, "sign-in", "--link")
	do(t, ctx, "sign in", chromedp.Navigate(strings.TrimSpace(link)), until(`document.querySelector('nav')`),
		chromedp.Navigate(w.url+"/vessels"), until(`document.querySelector('[title*="never-answered"]')`),
		chromedp.Navigate(w.url+"/vessels/2"))
	shows(t, ctx, `document.body.innerText`, "motor sailer is never answered")
	shows(t, ctx, `document.body.innerText`, "What does it get wrong?")
	do(t, ctx, "its page",
		act(`[...document.querySelectorAll('a')].find(a => a.innerText === 'Figures, examples and cutoff').click()`),
		until(`document.querySelector('svg[role=application]')`))
	is(t, ctx, `document.title`, "Predictions of vessels/2 · Kembrel")
	do(t, ctx, "a cell by keys", act(`document.querySelector('svg[role=application]').focus()`),
		chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowRight))
	shows(t, ctx, `location.search`, "predicted")
	do(t, ctx, "the alarm's examples",
		act(`[...document.querySelectorAll('a')].find(a => a.innerText.trim() === 'Its examples').click()`))
	shows(t, ctx, `document.body.innerText`, "160 examples.")
	do(t, ctx, "one large", act(`document.querySelector('.ex .key').click()`),
		until(`document.querySelector('.one audio')?.duration > 1.9`))
	shows(t, ctx, `document.body.innerText`, "Score of motor sailer, 0 at the foot")
	shows(t, ctx, `document.body.innerText`, "s across, 0 to 2.0 kHz upwards")
	is(t, ctx, `document.querySelector('.one canvas').height`, 256)
	do(t, ctx, "its label is wrong", act(`document.querySelectorAll('.marks button')[1].click()`),
		until(`document.querySelector('.marks .should')`))
	is(t, ctx, `document.querySelectorAll('.marks button')[1].getAttribute('aria-pressed')`, "true")
	require.Contains(t, w.kembrel(t, "predictions", "marks", "vessels/2"), "wrong")
	do(t, ctx, "the cutoff by keys", until(`document.querySelector('.el-slider')?.offsetHeight > 10`),
		act(`document.querySelector('[role=slider]').focus()`), chromedp.KeyEvent(kb.ArrowRight))
	shows(t, ctx, `document.body.innerText`, "From 0.51 on,")
	here := await[string](t, ctx, `location.href`, nil)
	for _, look := range []string{"light", "dark"} {
		do(t, ctx, look, act(fmt.Sprintf(`localStorage.setItem('kembrel-theme', '%s')`, look)), chromedp.Navigate(here),
			until(`document.querySelector('.one audio')`))
		require.Empty(t, axe(t, ctx), "predictions, %s", look)
	}
}
