package stories

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"kembrel/test/browser"
)

// axe looks for what keeps people out of a page; it returns what it found, or "".
func axe(t *testing.T, ctx context.Context) string {
	t.Helper()
	script, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	_, err = chromedp.Run(ctx, chromedp.Evaluate[chromedp.Void](string(script)+"; 0"))
	require.NoError(t, err)
	do(t, ctx, "a page that has come to rest", until(`!document.getAnimations().some((a) => a.playState === 'running')`))
	return await[string](t, ctx,
		`axe.run(document, {resultTypes: ['violations']}).then(r => r.violations.map(v => v.id + ': ' + v.help + '\n' + v.nodes.slice(0, 4).map(n => '   ' + n.html.slice(0, 200) + ' ' + n.failureSummary).join('\n')).join('\n'))`, nil)
}

// Nine runs of three settings are told apart, in the terminal and in the browser, by keyboard alone; nobody is kept out
// of the pages.
func TestComparingRuns(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	for _, setting := range []string{"--dropout=0.4", "--dropout=0", "--lr=0.5"} {
		for seed := 1; seed <= 3; seed++ {
			_, errs, code := run(w.record(w.harbour, "train", "--hidden", "32", "--lr", "0.005", "--clips", "320",
				"--epochs", "6", "--save-every", "6", setting, "--seed", fmt.Sprint(seed)))
			require.Zero(t, code, errs)
		}
	}
	w.nothingWaits(t)
	var c struct {
		Groups []struct {
			Runs []int
			Best struct {
				Mean   float64
				Values []float64
			}
			Next *struct{ Beyond bool }
		}
		Differ []struct{ Name string }
	}
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "compare", "--project", "vessels", "-o", "json", "1", "2",
		"3", "4", "5", "6", "7", "8", "9")), &c))
	require.Len(t, c.Groups, 3)
	require.Equal(t, []int{7, 8, 9}, c.Groups[2].Runs, "the rate of 0.5 is worst")
	require.True(t, c.Groups[1].Next.Beyond)
	// The means are those of the best readings of each run's curve, read from its history.
	for _, g := range c.Groups {
		sum := 0.0
		for _, n := range g.Runs {
			lines := strings.Split(strings.TrimSpace(w.kembrel(t, "export", fmt.Sprintf("vessels/%d", n), "--format",
				"csv-long", "--names", "loss.val")), "\n")
			column, best := -1, 0.0
			for i, name := range strings.Split(lines[0], ",") {
				if name == "value" {
					column = i
				}
			}
			for i, line := range lines[1:] {
				var v float64
				fmt.Sscan(strings.Split(line, ",")[column], &v)
				if i == 0 || v < best {
					best = v
				}
			}
			sum += best
		}
		require.InDelta(t, sum/3, g.Best.Mean, 1e-9)
	}
	text := w.kembrel(t, "compare", "--project", "vessels", "--where", "hyper.lr < 0.1", "--trade-off", "best,pace")
	for _, want := range []string{"Which is best?", "dropout 0.4", "What differed?", "How did they learn?",
		"What mattered?", "What are the trade-offs?"} {
		require.Contains(t, text, want)
	}
	require.Equal(t, w.url+"/vessels/compare?runs=3,7\n", w.kembrel(t, "open", "vessels/3", "vessels/7"))
	_, errs, code := w.try("compare", "vessels/1", "other/2")
	require.Equal(t, 2, code, errs)
	folder := t.TempDir()
	w.kembrel(t, "compare", "--project", "vessels", "1", "4", "--to", filepath.Join(folder, "c.html"), "--to",
		filepath.Join(folder, "c"), "--to", filepath.Join(folder, "c.csv"))
	for _, name := range []string{"c.html", "c/comparison.md", "c/ranking.svg", "c.csv"} {
		content, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		require.NotEmpty(t, content)
	}

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := strings.TrimSpace(w.kembrel(t, "sign-in", "--link"))
	do(t, ctx, "enter", chromedp.Navigate(link), chromedp.WaitVisible(`tbody a[href="/vessels"]`))
	do(t, ctx, "open the runs", chromedp.Navigate(w.url+"/vessels"), chromedp.WaitVisible(`tr[data-row="8"]`))
	is(t, ctx, "document.querySelector('.count').innerText", "9 runs")
	// Keys: into the table by tab, down, into the tray by space, along by End, and open the comparison.
	focus := `document.querySelector('.filter input').focus()`
	do(t, ctx, "to the table", act(focus))
	for i := 0; i < 60 && !await[bool](t, ctx, "document.activeElement.tagName === 'TR'", nil); i++ {
		do(t, ctx, "tab", chromedp.KeyEvent(kb.Tab))
	}
	is(t, ctx, "document.activeElement.dataset.row", "0", "a row is reached by the tab key")
	do(t, ctx, "choose by key", chromedp.KeyEvent(" "), chromedp.KeyEvent(kb.ArrowDown),
		chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent("x"),
		until(`/tray=9(,|%2C)6/.test(location.search)`))
	is(t, ctx, `document.querySelector('tr[data-row="3"]').getAttribute('aria-selected')`, "true")
	do(t, ctx, "sort by key", act(`document.querySelector('th:nth-child(4) button').focus()`),
		chromedp.KeyEvent(kb.Enter),
		until(`document.querySelector('th:nth-child(4)').getAttribute('aria-sort') === 'ascending' && /sort=best/.test(location.search)`))
	await(t, ctx, `document.querySelector('tr[data-row="0"] .mono').innerText`,
		func(first string) bool { return first >= "1" && first <= "6" }, "the best come first")
	do(t, ctx, "write a title by key", act(`document.querySelector('tr[data-row="0"]').focus()`),
		chromedp.KeyEvent("e"), chromedp.WaitVisible("input.cell"),
		chromedp.KeyEvent("The best"), chromedp.KeyEvent(kb.Enter),
		until(`document.querySelector('tr[data-row="0"]')?.innerText.includes('The best')`))
	do(t, ctx, "choose columns",
		chromedp.Navigate(w.url+"/vessels?columns=best,at(%22accuracy.val%22),hyper.dropout&widths=1:170&formats=1:%25"), until(`/\d\d\.\d %/.test(document.querySelector('tr[data-row="0"]')?.innerText)`))
	is(t, ctx, `document.querySelectorAll('thead th').length + 1`, 5, "run and three columns")
	do(t, ctx, "keep the view",
		act(`[...document.querySelectorAll('.line button')].find(b => b.innerText.startsWith('View')).click()`),
		chromedp.WaitVisible(`input[aria-label="Keep this view as"]`),
		chromedp.SendKeys(`input[aria-label="Keep this view as"]`, "accuracy\r"),
		until(`[...document.querySelectorAll('.line button')].some(b => b.innerText === 'View: accuracy')`))
	require.Contains(t, w.kembrel(t, "runs", "vessels", "--view", "accuracy"), `at("accuracy.val")`)
	for _, look := range []string{"light", "dark"} {
		do(t, ctx, look, act(fmt.Sprintf(`localStorage.setItem('kembrel-theme', '%s')`, look)),
			chromedp.Navigate(w.url+"/vessels?tray=1,2"), chromedp.WaitVisible(`tr[data-row="8"]`))
		require.Empty(t, axe(t, ctx), "runs, %s", look)
		do(t, ctx, "compare "+look, chromedp.Navigate(w.url+"/vessels/compare?runs=1,2,3,4,5,6,7,8,9"),
			chromedp.WaitVisible(".strip svg"), chromedp.WaitVisible("section.q:nth-of-type(5) figure"),
			chromedp.WaitVisible("figure .u-over"), chromedp.Sleep(500*time.Millisecond))
		require.Empty(t, axe(t, ctx), "compare, %s", look)
	}
	shows(t, ctx, "document.querySelector('main').innerText", "cannot be told apart from the noise between seeds")
	shows(t, ctx, "document.querySelector('main').innerText", "beaten by")
	// Everything that can be clicked is reached by the tab key.
	is(t, ctx, `[...document.querySelectorAll('main button, main a[href], main summary')].filter(e => e.offsetParent && e.tabIndex < 0).length`, 0)
	// A run that begins while one looks comes to the top without reload, and its figures move on.
	do(t, ctx, "look at the runs", chromedp.Navigate(w.url+"/vessels?columns=best,tags,state"),
		chromedp.WaitVisible(`tr[data-row="8"]`))
	mark := await[int](t, ctx, "window.stayed = 43", nil)
	// long enough for a busy machine to draw some of it
	live := w.record(w.harbour, "train", "--hidden", "8", "--clips", "320", "--epochs", "30", "--pace", "500ms")
	require.NoError(t, live.Start())
	top := `document.querySelector('tr[data-row="0"]').innerText`
	await(t, ctx, top, func(text string) bool {
		return strings.HasPrefix(text, "10") &&
			strings.Contains(text, "running")
	}, "it appears")
	seen := map[string]bool{}
	await(t, ctx, top, func(text string) bool { seen[text] = true; return len(seen) >= 3 }, "its figures move on")
	require.NoError(t, live.Wait())
	shows(t, ctx, top, "finished")
	do(t, ctx, "write tags in place", chromedp.DoubleClick(`tr[data-row="0"] td:nth-child(3)`),
		chromedp.WaitVisible("input.cell"), chromedp.KeyEvent("live, short"), chromedp.KeyEvent(kb.Enter),
		until(`document.querySelector('tr[data-row="0"]').innerText.includes('live, short')`))
	require.Contains(t, w.kembrel(t, "runs", "vessels", "--where", `"live" in tags`), "vessels/10")
	do(t, ctx, "archive it", act(`document.querySelector('tr[data-row="0"]').focus()`), chromedp.KeyEvent("x"),
		chromedp.WaitVisible(".tray .item"),
		act(`[...document.querySelectorAll('.tray button')].find(b => b.innerText === 'Archive').click()`),
		until(`document.querySelector('.count').innerText === '9 runs'`))
	is(t, ctx, "window.stayed", mark, "all without reload")

	// Of a long list only the rows in view are drawn, and its end is one key away.
	w.kembrel(t, "projects", "create", "fleet")
	made := await[int](t, ctx, `(async () => {
		let made = 0
		for (let i = 1; i <= 430; i++) {
			const body = JSON.stringify({hyper: {lr: i}, started: new Date(1790000000000 + i * 1000).toISOString()})
			const r = await fetch('/api/v1/projects/fleet/runs', {method: 'POST', body, headers: {'Content-Type': 'application/json', 'Idempotency-Key': crypto.randomUUID()}})
			if (r.status === 201) made++
		}
		return made
	})()`, nil)
	require.Equal(t, 430, made)
	do(t, ctx, "open the long list", chromedp.Navigate(w.url+"/fleet?sort=hyper.lr&columns=hyper.lr"),
		chromedp.WaitVisible(`tr[data-row="0"]`), until(`document.querySelector('.count').innerText === '430 runs'`),
		act(`document.querySelector('tr[data-row="0"]').focus()`), chromedp.KeyEvent(kb.End),
		until(`document.activeElement.dataset.row === '429' && document.activeElement.innerText.includes('430')`))
	await(t, ctx, `document.querySelectorAll('tbody tr[data-row]').length`, func(n int) bool { return n < 80 })
	do(t, ctx, "to its middle", act(`document.querySelector('.scroller').scrollTop = 250 * 30`),
		until(`document.querySelector('tr[data-row="255"]')?.innerText.includes('256')`))

	do(t, ctx, "the tray goes along", chromedp.Navigate(w.url+"/vessels/1?tray=4"), chromedp.WaitVisible(".tray"),
		chromedp.KeyEvent("x"), until(`/tray=4(,|%2C)1/.test(location.search)`),
		chromedp.Click(`nav a[href^="/vessels"]`), chromedp.WaitVisible(`tr[data-row="8"]`),
		until(`/tray=4(,|%2C)1/.test(location.search)`))
}

// A search tries its settings, two at once, and goes on after an interruption without repeating what has ended.
func TestSearchGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	space := filepath.Join(t.TempDir(), "space.yaml")
	require.NoError(t, os.WriteFile(space,
		[]byte("space: 1\nhyperparameters:\n  lr: {real: [0.001, 0.1], log: true}\n  hidden: {choice: [8, 16]}\n"),
		0o644))
	cmd := w.command(w.binary, "search", "random", "--project", "vessels", "--space", space, "--seed", "3", "--budget",
		"6", "--at-once", "2", "--", w.harbour, "train", "--lr", "{lr}", "--hidden", "{hidden}", "--clips", "320",
		"--epochs", "3", "--pace", "300ms")
	require.NoError(t, cmd.Start())
	search := func() (done, begun int, text string) {
		text = w.kembrel(t, "searches", "vessels", "1", "-o", "json")
		var s struct {
			Trials []struct {
				Done  bool
				Run   int
				State string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(text), &s))
		for _, trial := range s.Trials {
			if trial.Done {
				require.Equal(t, "finished", trial.State, "what was interrupted is to be run again")
				done++
			}
			if trial.Run > 0 {
				begun++
			}
		}
		return done, begun, text
	}
	require.Eventually(t, func() bool {
		if _, _, code := w.try("searches", "vessels", "1"); code != 0 {
			return false
		}
		done, begun, _ := search()
		return done >= 2 && begun > done
	}, 60*time.Second, 100*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.Error(t, cmd.Wait())
	require.Equal(t, 130, cmd.ProcessState.ExitCode())
	before, begun, _ := search()
	require.Less(t, before, 6)
	out := w.kembrel(t, "search", "resume", "1", "--project", "vessels", "--at-once", "2")
	left := 0
	_, err := fmt.Sscanf(out[strings.Index(out, "6 trials, "):], "6 trials, %d to run", &left)
	require.NoError(t, err, out)
	require.LessOrEqual(t, left, 6-before, "what a recorder that was cut off had left may be an ended trial")
	w.nothingWaits(t)
	done, _, text := search()
	require.Equal(t, 6, done, text)
	runs := strings.Count(w.kembrel(t, "runs", "vessels", "--output", "csv"), "vessels/")
	require.Equal(t, begun+left, runs, "only what had not ended was begun again")
	require.Contains(t, w.kembrel(t, "search", "resume", "1", "--project", "vessels"), "0 to run")
	var list struct {
		Items []struct {
			Hyper  map[string]any
			Recipe struct{ Command []string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "runs", "vessels", "--output", "json")), &list))
	for _, r := range list.Items {
		require.IsType(t, 0.0, r.Hyper["lr"])
		require.Contains(t, []any{8.0, 16.0}, r.Hyper["hidden"])
	}
	_, errs, code := w.try("search", "grid", "--project", "vessels", "--space", space, "--", w.harbour)
	require.Equal(t, 2, code)
	require.Contains(t, errs, "a grid must be told its steps")
	_, errs, code = w.try("search", "random", "--project", "vessels", "--space", space, "--", "/nonexistent/trainer")
	require.Equal(t, 3, code, errs)
	listed := w.kembrel(t, "search", "random", "--project", "vessels", "--space", space, "--seed", "4", "--budget", "6",
		"--dry-run", "--output", "csv", "--", "/nonexistent/trainer")
	require.Equal(t, 7, strings.Count(listed, "\n"), listed)
	require.NotContains(t, w.kembrel(t, "searches", "vessels", "-o", "csv"), "\n3,", "nothing was started")
	w.kembrel(t, "search", "random", "--project", "vessels", "--space", space, "--seed", "4", "--budget", "1",
		"--keep", "kept/*", "--read-output", "auto", "--", "sh", "-c", "mkdir -p kept; echo {lr} > kept/lr; echo epoch=1 loss.val=0.5")
	require.Eventually(t, func() bool { return strings.Contains(w.kembrel(t, "show", "vessels/last"), "loss.val") },
		30*time.Second, 200*time.Millisecond, "flags of the recorder hold for trials")
	require.Contains(t, w.kembrel(t, "files", "vessels/last"), "kept/lr")
	first := strings.Split(strings.Split(listed, "\n")[1], ",")[1]
	require.Contains(t, w.kembrel(t, "files", "show", "vessels/last", "kept/lr"), first, "what was listed is what is tried")
}
