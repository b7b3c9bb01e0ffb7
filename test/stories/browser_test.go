package stories

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"kembrel/test/browser"
)

// readings counts what the first chart's table shows for validation loss.
const readings = `[...document.querySelectorAll('figure .readings tbody tr')].filter(r => r.cells[0].innerText === 'loss.val').length`

// A person signs in by the link, opens a run while it trains, sees its curve grow without reload, also across a restart
// of the service, sees where it stopped being a number, and downloads a checkpoint whose bytes are the trainer's.
func TestWatchingInTheBrowser(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels", "--title", "Vessel classes")
	keep := w.folder + "/copies"
	cmd := w.record(w.harbour, "train", "--hidden", "16", "--clips", "320", "--epochs", "40", "--save-every", "4",
		"--pace", "1200ms", "--keep", keep)
	require.NoError(t, cmd.Start())

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := strings.TrimSpace(w.kembrel(t, "sign-in", "--link"))
	do(t, ctx, "without signing in", chromedp.Navigate(w.url+"/vessels/1"), chromedp.WaitVisible("input[name=name]"))
	do(t, ctx, "enter by the link", chromedp.Navigate(link), chromedp.WaitVisible(`tbody a[href="/vessels"]`))
	do(t, ctx, "open the project", chromedp.Click(`tbody a[href="/vessels"]`),
		chromedp.WaitVisible(`a[href="/vessels/1"]`))
	do(t, ctx, "open the run", chromedp.Click(`td a[href="/vessels/1"]`), chromedp.WaitVisible(".u-over"),
		chromedp.WaitVisible("main figure")) // a word alone is looked for in texts and names of files, too
	do(t, ctx, "show the readings", chromedp.Click("figure figcaption button[aria-expanded]"),
		chromedp.WaitVisible("figure .readings tbody tr"))
	mark := await[int](t, ctx, "window.stayed = 41", nil)
	before := await[int](t, ctx, readings, nil)
	grown := func(by int, why string) {
		t.Helper()
		await(t, ctx, readings, func(n int) bool { return n >= before+by }, why)
	}
	grown(3, "the curve grows while it trains")
	shows(t, ctx, "document.querySelector('.page-head').innerText", "running")

	w.stop(t, 2)
	w.start(t)
	before = await[int](t, ctx, readings, nil)
	grown(3, "and goes on growing after the service was away")
	is(t, ctx, "window.stayed", mark, "without reload")

	do(t, ctx, "the view is in the link",
		act(`[...document.querySelectorAll('.el-segmented__item')].find(e => e.innerText.trim() === 'log').click()`),
		until(`location.search === '?scale=log'`))
	do(t, ctx, "pause", act(`[...document.querySelectorAll('.el-checkbox')].find(e => e.innerText.trim() === 'pause').click()`),
		until(`/paused; the view is .* epochs behind/.test(document.querySelector('.controls').innerText)`))
	stood := await[int](t, ctx, readings, nil)
	time.Sleep(time.Second)
	is(t, ctx, readings, stood, "a paused view stands still")
	do(t, ctx, "go on", act(`[...document.querySelectorAll('.el-checkbox')].find(e => e.innerText.trim() === 'pause').click()`))

	require.NoError(t, cmd.Wait())
	w.nothingWaits(t)
	shows(t, ctx, "document.querySelector('.page-head').innerText", "finished")
	is(t, ctx, readings, 40, "every epoch, once")
	epochs := await[string](t, ctx,
		`[...document.querySelectorAll('figure .readings tbody tr')].filter(r => r.cells[0].innerText === 'loss.val').map(r => r.cells[2].innerText).join(' ')`, nil)
	require.True(t, strings.HasPrefix(epochs, "1 2 3 4 5 ") && strings.HasSuffix(epochs, " 39 40"), epochs)

	// The link of the first file of the best checkpoint, as the menu offers it.
	address := await(t, ctx, `(async () => {
		[...document.querySelectorAll('#what-came-out tbody tr')].find(r => r.innerText.includes('best')).querySelector('button').click()
		for (let i = 0; i < 50; i++) {
			await new Promise(r => setTimeout(r, 50))
			const a = [...document.querySelectorAll('a.download')].find(a => a.href.includes('weights.safetensors') && a.offsetParent)
			if (a) return a.href
		}
		return ''
	})()`, func(address string) bool { return strings.Contains(address, "/checkpoints/e") })
	got := await[[]int](t, ctx,
		`fetch("`+address+`").then(r => r.arrayBuffer()).then(b => [...new Uint8Array(b)])`, nil)
	at := strings.SplitN(strings.SplitN(address, "/checkpoints/", 2)[1], "/", 2)[0]
	want, err := os.ReadFile(filepath.Join(keep, at, "weights.safetensors"))
	require.NoError(t, err)
	bytesGot := make([]byte, len(got))
	for i, b := range got {
		bytesGot[i] = byte(b)
	}
	require.True(t, bytes.Equal(want, bytesGot), "%s: %d bytes, not the trainer's %d", address, len(got), len(want))

	// NaN is a value all the way to the chart.
	_, errs, code := run(w.record(w.harbour, "train", "--hidden", "96", "--activation", "relu", "--lr", "3", "--clips",
		"960", "--epochs", "10"))
	require.Zero(t, code, errs)
	do(t, ctx, "open the diverged run", chromedp.Navigate(w.url+"/vessels/2?axis=step&hide=1"),
		chromedp.WaitVisible(".u-over"),
		chromedp.Click("figure figcaption button[aria-expanded]"), chromedp.WaitVisible("figure .readings tbody tr"))
	shows(t, ctx, "document.querySelector('figure .readings').innerText", "NaN")
	shows(t, ctx, "document.querySelector('section.q').innerText", "no longer a number")

	// Keys zoom and pan, the link follows; the files hold what is seen.
	key := func(key string) chromedp.Action[chromedp.Void] {
		return act(`document.querySelector('figure .host').dispatchEvent(new KeyboardEvent('keydown', {key: '` + key +
			`', bubbles: true}))`)
	}
	do(t, ctx, "open the first run", chromedp.Navigate(w.url+"/vessels/1"), chromedp.WaitVisible(".u-over"))
	do(t, ctx, "zoom by key", key("+"), until(`/zoom=10\.75~30\.25/.test(decodeURIComponent(location.search))`))
	do(t, ctx, "pan by key", key("ArrowRight"), until(`/zoom=12\.7~32\.2/.test(decodeURIComponent(location.search))`))
	saved := func(kind string) string {
		return await[string](t, ctx, `(async () => {
			let blob
			const make = URL.createObjectURL
			URL.createObjectURL = b => (blob = b, make(b))
			document.querySelector('figure [aria-label$="as `+kind+`"]').click()
			for (let i = 0; i < 50 && !blob; i++) await new Promise(r => setTimeout(r, 50))
			URL.createObjectURL = make
			return blob.type === 'image/png' ? 'png ' + blob.size : await blob.text()
		})()`, nil)
	}
	require.Eventually(t, func() bool { return len(strings.Split(strings.TrimSpace(saved("CSV")), "\n")) == 1+2*20 },
		pageTime, 100*time.Millisecond, "epochs 13 to 32 of two curves")
	require.Regexp(t, `^<svg .*<path d="M.*</svg>`, strings.ReplaceAll(saved("SVG"), "\n", " "))
	require.Regexp(t, `^png \d{4,}`, saved("PNG"))
	do(t, ctx, "open the link of a stretch", chromedp.Navigate(w.url+"/vessels/1?zoom=5~15"),
		chromedp.WaitVisible(".u-over"), chromedp.Sleep(700*time.Millisecond))
	is(t, ctx, "decodeURIComponent(location.search)", "?zoom=5~15", "the link is the state")
	do(t, ctx, "show all by key", key("0"), until(`!location.search.includes('zoom')`))

	// The filter line: "/" goes to it, the table and the link follow, and what is wrong is said with its column.
	do(t, ctx, "open the runs", chromedp.Navigate(w.url+"/vessels"), chromedp.WaitVisible("tbody tr"),
		chromedp.WaitVisible(".filter input"),
		act(`document.body.dispatchEvent(new KeyboardEvent('keydown', {key: '/', bubbles: true}))`),
		until(`document.activeElement.matches('.filter input')`),
		chromedp.SendKeys(".filter input", `hyper.lr > 1`+"\r"),
		until(`document.querySelectorAll('tbody tr').length === 1`))
	shows(t, ctx, "decodeURIComponent(location.search)", "where=hyper.lr")
	do(t, ctx, "write a wrong filter", chromedp.SendKeys(".filter input", " && stat\r"),
		chromedp.WaitVisible(".filter [role=alert]"))
	shows(t, ctx, "document.querySelector('.filter [role=alert]').innerText", `there is no "stat"`)

	// Suggestions are taken by keyboard: the first by Tab, another by arrows and Enter, which filters only then.
	suggested := until(`document.querySelectorAll('.el-autocomplete-suggestion li').length > 1`)
	do(t, ctx, "take a suggestion", act(`document.querySelector('.filter input').select()`),
		chromedp.SendKeys(".filter input", `hyper.l`), suggested,
		chromedp.SendKeys(".filter input", "\t"), until(`document.querySelector('.filter input').value.startsWith('hyper.l') &&
			document.querySelector('.filter input').value.length > 7 && document.activeElement.matches('.filter input')`))
	do(t, ctx, "take the second", act(`document.querySelector('.filter input').select()`),
		chromedp.SendKeys(".filter input", `hyper.l`), suggested,
		chromedp.SendKeys(".filter input", kb.ArrowDown+kb.ArrowDown),
		until(`document.querySelectorAll('.el-autocomplete-suggestion li')[1].getAttribute('aria-selected') === 'true'`),
		chromedp.SendKeys(".filter input", "\r"), until(`document.querySelector('.filter input').value.length > 7`))

	// A checkpoint's page: what it is good for, and its tensors with their distribution over the epochs.
	do(t, ctx, "open a checkpoint", chromedp.Navigate(w.url+"/vessels/1/checkpoints/best"),
		chromedp.WaitVisible(".tensors tbody tr"),
		chromedp.WaitVisible("svg[aria-label^='distribution of layer1.weight']"))
	shows(t, ctx, "document.querySelector('main').innerText", "To resume and to use.")
	shows(t, ctx, "document.querySelector('main').innerText", "No layer is dead, none explodes.")
	await(t, ctx, "document.querySelectorAll('svg[aria-label^=distribution] path.band').length",
		func(n int) bool { return n > 2 }, "bands of quantiles")
}
