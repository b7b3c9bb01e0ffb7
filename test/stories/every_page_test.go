package stories

import (
	"context"
	"os"
	"regexp"
	"sync"
	"testing"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kembrel/test/browser"
)

// pages are an address for each page of the console, those that cannot be shown included.
var pages = []struct{ name, path string }{
	{"projects", "/"}, {"projects", "/?shown=archived"}, {"storage", "/storage"}, {"data", "/data"},
	{"snapshot", "/data/hydrophone/1"}, {"catalogue", "/catalogue"}, {"model", "/catalogue/vessel-classifier"},
	{"edition", "/catalogue/vessel-classifier/1"}, {"lineage", "/lineage?of=vessels/1"}, {"people", "/people"},
	{"account", "/account"}, {"service-subscriptions", "/subscriptions"}, {"audit", "/audit"},
	{"project-access", "/vessels/access"}, {"subscriptions", "/vessels/subscriptions"},
	{"project-audit", "/vessels/audit"}, {"project-storage", "/vessels/storage"}, {"runs", "/vessels"},
	{"runs", "/vessels?where=" + `best("los.val")%20<%201`}, {"runs", "/vessels?where=stat"}, {"run", "/vessels/1"},
	{"predictions", "/vessels/1/predictions"}, {"checkpoint", "/vessels/1/checkpoints/best"},
	{"compare", "/vessels/compare?runs=1,2"}, {"nowhere", "/vessels/1/2/3"}, {"run", "/vessels/99"},
	{"checkpoint", "/vessels/1/checkpoints/e99"}, {"runs", "/boats"}, {"model", "/catalogue/boats"},
	{"snapshot", "/data/boats/1"},
}

// read are the pages that are read on a phone too.
var read = map[string]bool{"projects": true, "run": true, "checkpoint": true, "data": true, "snapshot": true,
	"catalogue": true, "model": true, "edition": true, "predictions": true, "account": true, "nowhere": true}

// Every page has one heading of its own, a title, no sideways scrolling in a window of 900 pixels, and nothing that
// keeps anybody out, in both looks.
func TestEveryPage(t *testing.T) {
	t.Parallel()
	router, err := os.ReadFile("../../console/src/router.ts")
	require.NoError(t, err)
	known := map[string]bool{"sign-in": true, "enter": true} // looked at before one is signed in, below
	for _, p := range pages {
		known[p.name] = true
	}
	for _, name := range regexp.MustCompile(`name: '([a-z-]+)'`).FindAllStringSubmatch(string(router), -1) {
		require.True(t, known[name[1]], "the page %s is looked at", name[1])
	}

	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels", "--title", "Vessel classes by sound")
	clips := w.folder + "/clips"
	out, errs, code := run(w.command(w.harbour, "data", "--into", clips))
	require.Zero(t, code, out, errs)
	w.kembrel(t, "data", "add", "hydrophone", "--table", clips+"/by-clip.csv", "--map", "voyage=group", "--keep-bytes",
		"--yes")
	for _, seed := range []string{"1", "2"} {
		out, errs, code := run(w.record(w.harbour, "train", "--split", "clip", "--data", "--hidden", "8", "--epochs", "3",
			"--sheets", "2", "--seed", seed))
		require.Zero(t, code, out+errs)
	}
	w.nothingWaits(t)
	require.Contains(t, w.kembrel(t, "projects", "improvements", "vessels"), "loss.val went from ")
	require.Contains(t, w.kembrel(t, "show", "vessels"), "\nmoved ")
	w.kembrel(t, "catalogue", "create", "vessel-classifier", "--project", "vessels", "--standing", "in-use=1")
	w.kembrel(t, "catalogue", "add", "vessels/1@best", "--model", "vessel-classifier")
	w.kembrel(t, "catalogue", "check", "vessel-classifier#1", "--name", "every class", "--passed", "--figure", "recall=0.8")
	w.kembrel(t, "catalogue", "propose", "vessel-classifier#1")
	w.kembrel(t, "people", "add", "Teo Lind")

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	var mutex sync.Mutex
	var thrown []string
	require.NoError(t, chromedp.Listen(ctx, func(event any) {
		if e, is := event.(*runtime.EventExceptionThrown); is {
			mutex.Lock()
			defer mutex.Unlock()
			text := e.ExceptionDetails.Text
			if e.ExceptionDetails.Exception != nil {
				text += " " + e.ExceptionDetails.Exception.Description
			}
			thrown = append(thrown, text)
		}
	}))
	do(t, ctx, "before one is signed in", chromedp.Navigate(w.url+"/sign-in"), until(`document.querySelector('h1')`))
	require.Empty(t, axe(t, ctx), "sign-in")
	do(t, ctx, "sign in", chromedp.Navigate(w.kembrel(t, "sign-in", "--link")), until(`document.querySelector('nav')`),
		until(`document.querySelector('td svg[aria-label^="loss.val went"], td svg[aria-label^="The best loss.val"]')`))
	for _, look := range []struct {
		name  string
		width int64
	}{{"light, 1280", 1280}, {"dark, 900", 900}} {
		require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(look.width, 800)))
		for _, p := range pages {
			do(t, ctx, p.path, chromedp.Navigate(w.url+p.path), until(`document.querySelector('h1')`),
				until(`performance.getEntriesByType('resource').every((r) => r.responseEnd > 0)`))
			assert.Empty(t, axe(t, ctx), "%s, %s", p.path, look.name)
			is(t, ctx, `document.querySelectorAll('h1').length`, 1, p.path)
			require.NotEqual(t, "Kembrel", await[string](t, ctx, `document.title`, nil), p.path)
			assert.Empty(t, await[string](t, ctx, sideways, nil), "%s, %s: it scrolls sideways", p.path, look.name)
			assert.Empty(t, await[string](t, ctx, unnamed, nil), "%s: a drawing without a name", p.path)
			if look.width == 900 {
				walk(t, ctx, p.path)
			}
			mutex.Lock()
			assert.Empty(t, thrown, "%s: errors that nothing caught", p.path)
			thrown = nil
			mutex.Unlock()
		}
		do(t, ctx, "the other look", act(`document.querySelector('header button').click()`))
	}
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(390, 844))) // a phone's
	for _, p := range pages {
		if read[p.name] {
			do(t, ctx, p.path, chromedp.Navigate(w.url+p.path), until(`document.querySelector('h1')`),
				until(`performance.getEntriesByType('resource').every((r) => r.responseEnd > 0)`))
			assert.Empty(t, await[string](t, ctx, sideways, nil), "%s, 390: it scrolls sideways", p.path)
		}
	}
}

// walk goes through a page by Tab alone, and comes by all that can be used.
func walk(t *testing.T, ctx context.Context, path string) {
	t.Helper()
	const begin = `(() => {
		window.usable = [...document.querySelectorAll('a[href], button, input, select, textarea, [tabindex]')].filter((e) =>
			e.tabIndex >= 0 && !e.disabled && e.checkVisibility({visibilityProperty: true}) && e.getClientRects().length &&
			!(e.type === 'radio' && !e.checked)) // as it is now: a long list reads on while one walks
		window.walked = new Set()
		document.addEventListener('focusin', (e) => walked.add(e.target))
		document.activeElement?.blur()
		return usable.length
	})()`
	const left = `usable.filter((e) => e.isConnected && !walked.has(e)).map((e) => e.outerHTML.slice(0, 120)).slice(0, 5).join('\n')`
	count := await[int](t, ctx, begin, nil)
	require.Positive(t, count, path)
	missed := "all"
	for steps := 0; missed != "" && steps < count+200; steps += 20 {
		for range 20 {
			require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent(kb.Tab)))
		}
		missed = await[string](t, ctx, left, nil)
	}
	assert.Empty(t, missed, "%s: not come by with Tab alone", path)
}

// unnamed are drawings that say nothing to those who do not see them.
const unnamed = `[...document.querySelectorAll('main canvas')].filter((c) =>
	!c.closest('[role=img][aria-label]:not([aria-label=""])') && !c.closest('[aria-hidden=true]')).map((c) => c.outerHTML).join()`

// sideways names what makes a page wider than its window.
const sideways = `document.documentElement.scrollWidth <= innerWidth ? '' : [...document.querySelectorAll('main *')]
	.filter((e) => e.getBoundingClientRect().right > innerWidth + 1).slice(0, 6)
	.map((e) => e.tagName + '.' + e.className + ' ' + Math.round(e.getBoundingClientRect().right)).join(', ') || 'the head'`
