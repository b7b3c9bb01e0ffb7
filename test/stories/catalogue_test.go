package stories

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/store/cluster"
	"kembrel/test/browser"
)

// The whole way of a model: a checkpoint is entered by a machine, checked, proposed, signed off by a person in the
// console, fetched by its standing, reported as used, followed by another, and put back; also when its run is gone.
func TestCatalogue(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	for _, seed := range []string{"1", "2"} {
		out, errs, code := run(w.record(w.harbour, "train", "--hidden", "12", "--clips", "320", "--epochs", "3", "--seed",
			seed, "--lr", "0.01"))
		require.Zero(t, code, out+errs)
	}
	w.nothingWaits(t)
	w.kembrel(t, "people", "add", "buildhall", "--machine")
	w.kembrel(t, "roles", "set", "vessels", "--person", "buildhall", "--role", "member")
	token := strings.TrimSpace(w.kembrel(t, "people", "token", "buildhall"))
	buildhall := func(args ...string) (out, errs string, code int) {
		cmd := w.command(w.binary, append([]string{"catalogue"}, args...)...)
		cmd.Env = append(cmd.Env, "KEMBREL_TOKEN="+token)
		return run(cmd)
	}
	does := func(args ...string) string {
		t.Helper()
		out, errs, code := buildhall(args...)
		require.Zero(t, code, out+errs)
		return out
	}

	require.Contains(t, w.kembrel(t, "catalogue"), "There is no model yet")
	w.kembrel(t, "catalogue", "create", "vessel-classifier", "--project", "vessels", "--title", "Vessel classes by sound",
		"--standing", "in-use=1", "--standing", "fallback", "--needs", "in-use=every class")
	require.Contains(t, does("add", "vessels/1@best", "--model", "vessel-classifier", "--why", "hears ferries"),
		"vessel-classifier#1 is vessels/1@s")
	require.Contains(t, does("add", "vessels/1@best", "--model", "vessel-classifier"), "was there before")
	require.Contains(t, does("propose", "vessel-classifier#1", "--why", "nothing better yet"),
		"it waits for the check every class, 1 sign-off")
	_, errs, code := buildhall("sign", "vessel-classifier#1", "--why", "mine")
	require.Equal(t, 4, code, errs)
	does("check", "vessel-classifier/proposed", "--name", "every class", "--passed", "--figure", "lowest recall=0.61")
	_, errs, code = w.try("restore", "vessel-classifier/in-use", "--into", "model")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "no edition of vessel-classifier has the standing in-use")

	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	do(t, ctx, "sign in", chromedp.Navigate(strings.TrimSpace(w.kembrel(t, "sign-in", "--link"))),
		until(`document.querySelector('nav')`), chromedp.Navigate(w.url+"/catalogue"),
		until(`document.querySelector('tbody a')`))
	shows(t, ctx, `document.querySelector("main").innerText`, "1 edition waits for a standing")
	for _, look := range []string{"light", "dark"} {
		require.Empty(t, axe(t, ctx), "the catalogue, %s", look)
		do(t, ctx, "look", act(`document.querySelector('header button').click()`))
	}
	do(t, ctx, "another model", act(`[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('New model')).click()`),
		until(`document.querySelector('.el-dialog input') && !document.querySelector('.dialog-fade-enter-active')`))
	require.Empty(t, axe(t, ctx), "its dialog")
	do(t, ctx, "its name", chromedp.SendKeys(`.el-dialog input[placeholder="vessel-classifier"]`, "hull-noise"),
		act(`document.querySelector('.el-dialog .el-button--primary').click()`),
		until(`location.pathname === '/catalogue/hull-noise' && document.querySelector('h1').innerText === 'hull-noise'`))
	do(t, ctx, "the model", chromedp.Navigate(w.url+"/catalogue/vessel-classifier"),
		until(`document.querySelector('.waits button')`))
	shows(t, ctx, `document.querySelector("main").innerText`, "0 of 1 sign-off")
	do(t, ctx, "sign off", act(`[...document.querySelectorAll('.waits button')].find(b => b.innerText.startsWith('Sign off')).click()`),
		until(`document.querySelector('.el-dialog textarea') && !document.querySelector('.dialog-fade-enter-active')`))
	require.Empty(t, axe(t, ctx), "the dialog")
	do(t, ctx, "say why", chromedp.SendKeys(".el-dialog textarea", "a day at the quay"),
		act(`document.querySelector('.el-dialog .el-button--primary').click()`),
		until(`document.querySelector('.field.held h3')`))
	shows(t, ctx, `document.querySelector('.field.held').innerText`, "#1")
	is(t, ctx, "document.querySelectorAll('.waits').length", 0, "nothing waits any more")

	w.kembrel(t, "restore", "vessel-classifier/in-use", "--for-use", "--into", "model")
	was, err := os.ReadFile(w.folder + "/model/weights.safetensors")
	require.NoError(t, err)
	does("report-use", "vessel-classifier/in-use", "--where", "harbour-north")
	does("add", "vessels/2@best", "--model", "vessel-classifier")
	require.NoError(t, os.WriteFile(filepath.Join(w.folder, "classes.csv"), []byte("class,recall\ntug,0.84\n"), 0o600))
	does("check", "vessel-classifier#2", "--name", "every class", "--passed", "--file", "classes.csv")
	does("check-files", "vessel-classifier#2", "--name", "every class", "--into", "report")
	back, err := os.ReadFile(filepath.Join(w.folder, "report", "classes.csv"))
	require.NoError(t, err)
	require.Equal(t, "class,recall\ntug,0.84\n", string(back))
	_, errs, code = w.try("catalogue", "check-files", "vessel-classifier#2", "--name", "latency", "--into", "report")
	require.Equal(t, 3, code)
	require.Contains(t, errs, "no file came of a check")
	does("propose", "vessel-classifier#2")
	says := w.kembrel(t, "catalogue", "show", "vessel-classifier#2")
	require.Contains(t, says, "Against #1, which is in use: loss.val")
	require.Contains(t, says, "hyperparameters: seed 2 (was 1)")
	require.Contains(t, says, "classes.csv")
	w.kembrel(t, "catalogue", "sign", "vessel-classifier#2", "--why", "better")
	shows(t, ctx, `document.querySelector('.field.held h3').innerText`, "#2", "the page hears of it")
	require.Contains(t, w.kembrel(t, "catalogue", "show", "vessel-classifier"), "1 edition behind")
	for _, look := range []string{"light", "dark"} {
		require.Empty(t, axe(t, ctx), "a model, %s", look)
		do(t, ctx, "look", act(`document.querySelector('header button').click()`))
	}

	w.entersByRule(t, ctx)
	w.kembrel(t, "delete", "vessels/1", "--days", "0")
	do(t, ctx, "put back", act(`[...document.querySelectorAll('.field button')].find(b => b.innerText.startsWith('Put #1 back')).click()`),
		until(`document.querySelector('.el-dialog textarea')`),
		chromedp.SendKeys(".el-dialog textarea", "takes tugs for ferries"),
		act(`document.querySelector('.el-dialog .el-button--primary').click()`))
	shows(t, ctx, `document.querySelector('.field.held h3').innerText`, "#1")
	history := w.kembrel(t, "catalogue", "history", "vessel-classifier")
	require.Equal(t, 3, strings.Count(history, "in-use"), history)
	require.Eventually(t, func() bool {
		var e api.Edition
		w.decode(t, &e, "catalogue", "show", "vessel-classifier/in-use", "--output", "json")
		return e.Number == 1 && e.RunGone
	}, 100*time.Second, 200*time.Millisecond)
	w.kembrel(t, "restore", "vessel-classifier/in-use", "--for-use", "--into", "again")
	require.Equal(t, w.kembrel(t, "lineage", "vessel-classifier#1"), w.kembrel(t, "lineage", "vessel-classifier/in-use"))
	is1, err := os.ReadFile(w.folder + "/again/weights.safetensors")
	require.NoError(t, err)
	require.Equal(t, was, is1)
	do(t, ctx, "an edition", chromedp.Navigate(w.url+"/catalogue/vessel-classifier/2"),
		until(`document.querySelectorAll('section.q').length === 5`))
	shows(t, ctx, `document.querySelector("main").innerText`, "Is it better than the one in use?")
	require.Empty(t, axe(t, ctx), "an edition")
	require.Contains(t, w.kembrel(t, "audit", "--kind", "model"), "signed off")
	w.eventsStay(t)
}

// entersByRule makes a rule in the console, trains on, and sees what became of the runs.
func (w *world) entersByRule(t *testing.T, ctx context.Context) {
	t.Helper()
	button := func(text string) chromedp.Action[chromedp.Void] {
		return act(`[...document.querySelectorAll('main button, .el-dialog button')].find(b => b.innerText.startsWith('` + text + `')).click()`)
	}
	require.Contains(t, w.kembrel(t, "catalogue", "add-rule", "vessel-classifier", "--try"), "would have entered")
	do(t, ctx, "a rule", button("Make a rule"),
		until(`document.querySelector('.el-dialog input') && !document.querySelector('.dialog-fade-enter-active')`),
		chromedp.SendKeys(".el-dialog input", "hyper.lr >= 0.02"), act(`document.querySelectorAll('.el-dialog [type=radio]')[1].click()`),
		button("Try it"), until(`document.querySelector('.el-dialog [role=status]').innerText.includes('would have entered')`))
	require.Empty(t, axe(t, ctx), "the dialog of a rule")
	do(t, ctx, "make it", button("Make the rule"), until(`document.querySelector('section.rule')`))
	shows(t, ctx, `document.querySelector('section.rule').innerText`, "A run with hyper.lr >= 0.02 enters when its best checkpoint is better than the edition in use by more than 0.01")
	out, errs, code := run(w.record(w.harbour, "train", "--hidden", "24", "--clips", "320", "--epochs", "8", "--seed", "1",
		"--lr", "0.03"))
	require.Zero(t, code, out+errs)
	did := ""
	for end := time.Now().Add(60 * time.Second); !strings.Contains(did, "vessels/3") && time.Now().Before(end); {
		time.Sleep(300 * time.Millisecond)
		did = w.kembrel(t, "catalogue", "rules", "vessel-classifier")
	}
	require.Contains(t, did, "Entered as #3")
	var e api.Edition
	w.decode(t, &e, "catalogue", "show", "vessel-classifier#3", "--output", "json")
	require.Contains(t, e.Why, "By rule 1. Enters: loss.val")
	shows(t, ctx, `document.querySelector('section.rule').innerText`, "Entered as #3", "the page hears of it")
	do(t, ctx, "clear it", button("Clear"), until(`!document.querySelector('section.rule')`))
	_, errs, code = w.try("catalogue", "clear-rule", "vessel-classifier", "1")
	require.Equal(t, 3, code, errs)
}

// eventsStay sees that the role which the service has in the database can do nothing to its events.
func (w *world) eventsStay(t *testing.T) {
	t.Helper()
	ctx := context.Background()
	address, err := cluster.Running(w.folder + "/data/postgres")
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, address)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, statement := range []string{"update event set verb = 'closed'", "delete from event_chain", "drop table event",
		"alter table event disable trigger all", "drop schema public cascade"} {
		_, err := conn.Exec(ctx, statement)
		var refused *pgconn.PgError
		require.ErrorAs(t, err, &refused, statement)
		require.Equal(t, "42501", refused.Code, "%s: insufficient privilege", statement)
	}
}
