package stories

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kembrel/test/browser"
)

// An administrator adds somebody in the console and gives them a role; they see what they may, and why not the rest.
// When the project is closed to them it is not there.
func TestAccessInTheBrowser(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	_, errs, code := run(w.record("sh", "-c", "true"))
	require.Zero(t, code, errs)
	w.kembrel(t, "teams", "set", "Sonar crew")
	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := strings.TrimSpace(w.kembrel(t, "sign-in", "--link"))
	do(t, ctx, "enter", chromedp.Navigate(link), chromedp.WaitVisible(`tbody a[href="/vessels"]`))
	const pageSays = "document.querySelector('main').innerText"
	do(t, ctx, "people", chromedp.Navigate(w.url+"/people"), chromedp.WaitVisible("form.add input"),
		chromedp.SendKeys("form.add input", "Teo Lind"), chromedp.Click("form.add button"),
		until(pageSays+".includes('Signs Teo Lind in once')"))
	its := await[string](t, ctx, "document.querySelector('.link .mono').innerText", nil)
	require.Contains(t, w.kembrel(t, "people", "--output", "csv"), "Teo Lind,person,member")
	for _, look := range []string{"light", "dark"} {
		for _, path := range []string{"/people", "/account", "/audit", "/vessels/access"} {
			do(t, ctx, look+path, act(fmt.Sprintf(`localStorage.setItem('kembrel-theme', '%s')`, look)),
				chromedp.Navigate(w.url+path), chromedp.WaitVisible("tbody tr"))
			require.Empty(t, axe(t, ctx), "%s, %s", path, look)
		}
	}
	shows(t, ctx, pageSays, "Everybody who is signed in sees it")
	w.kembrel(t, "roles", "set", "vessels", "--team", "Sonar crew", "--role", "reader")
	shows(t, ctx, pageSays, "Sonar crew", "the page hears of it")
	do(t, ctx, "its name", chromedp.SendKeys(".title input", "Vessel classes by sound"),
		chromedp.Click("section:last-of-type form.add button"),
		until(pageSays+".includes('Vessel classes by sound, in addresses vessels. Runs are judged by loss.val, lower is better.')"))
	require.Contains(t, w.kembrel(t, "projects", "--output", "csv"), "Vessel classes by sound")
	w.kembrel(t, "projects", "change", "vessels", "--objective", "accuracy.val higher")
	shows(t, ctx, pageSays, "Runs are judged by accuracy.val, higher is better.")
	is(t, ctx, "document.querySelector('[aria-label=\"Curve that runs are judged by\"]').value", "accuracy.val")
	w.kembrel(t, "projects", "change", "vessels", "--objective", "loss.val lower")
	w.kembrel(t, "people", "change", "Teo Lind", "--role", "none")

	other, close, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer close()
	do(t, other, "enter as Teo", chromedp.Navigate(its), chromedp.WaitVisible(`tbody a[href="/vessels"]`),
		chromedp.Navigate(w.url+"/vessels/storage"), chromedp.WaitVisible(".keep button"))
	shows(t, other, pageSays, "Changing it needs the role owner; you are reader here")
	is(t, other, "[...document.querySelectorAll('.keep button')].some(b => b.innerText === 'Set')", false)
	do(t, other, "its access", chromedp.Navigate(w.url+"/vessels/access"), chromedp.WaitVisible("tbody tr"))
	shows(t, other, pageSays, "You are reader.")
	is(t, other, "document.querySelectorAll('main .el-select, main .el-input').length", 0, "nothing to change is offered")

	w.kembrel(t, "projects", "change", "vessels", "--closed")
	do(t, other, "the run", chromedp.Navigate(w.url+"/vessels/1"))
	shows(t, other, pageSays, `there is no project "vessels"`)
	w.kembrel(t, "teams", "set", "Sonar crew", "Teo Lind")
	do(t, other, "the run again", chromedp.Navigate(w.url+"/vessels/1"))
	shows(t, other, pageSays, "How is it learning?")
	w.kembrel(t, "people", "close", "Teo Lind")
	await(t, other, "fetch('/api/v1/me').then(r => r.status)", func(status int) bool { return status == 401 })
}

// Somebody who never opens a browser gets in by the link that they were given.
func TestInByALinkInATerminal(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	added, errs, code := w.try("people", "add", "Teo Lind")
	require.Zero(t, code, errs)
	link := strings.TrimSpace(strings.TrimPrefix(added, "added Teo Lind\n"))
	teo := func(input string, args ...string) (out, errs string, code int) {
		cmd := w.command(w.binary, args...)
		cmd.Env = append(cmd.Env, "KEMBREL_CREDENTIALS="+w.folder+"/teo.json")
		cmd.Stdin = strings.NewReader(input)
		return run(cmd)
	}
	_, errs, code = teo("", "whoami")
	require.Equal(t, 4, code)
	require.Contains(t, errs, "nobody is signed in to "+w.url+" here: kembrel sign-in --name YOU --url "+w.url)
	for _, wrong := range []string{w.url, "enter#X", w.url + "/enter", w.url + "/sign-in#X"} {
		_, errs, code = teo("", "sign-in", wrong)
		require.Equal(t, 2, code, wrong)
		require.Contains(t, errs, "is no sign-in link")
	}
	out, errs, code := teo("", "sign-in", link)
	require.Zero(t, code, errs)
	require.Contains(t, out, "signed in to "+w.url+" as Teo Lind")
	require.Contains(t, out, "kembrel sign-in --set-password")
	out, _, _ = teo("", "whoami")
	require.Contains(t, out, "Teo Lind at "+w.url)
	_, errs, code = teo("", "sign-in", link)
	require.Equal(t, 4, code)
	require.NotContains(t, errs, "nobody is signed in", "it is good once, and that is said")
	_, errs, code = teo("deep-water-7420\n", "sign-in", "--set-password")
	require.Zero(t, code, errs)
	_, errs, code = teo("deep-water-7420\n", "sign-in", "--name", "Teo Lind")
	require.Zero(t, code, errs)
	_, errs, code = teo("deep-water-7421\n", "sign-in", "--name", "Teo Lind")
	require.Equal(t, 4, code)
	require.NotContains(t, errs, "nobody is signed in")
}
