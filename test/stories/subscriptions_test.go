package stories

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/test/browser"
)

// tells has a world's service tell receivers on this machine.
func tells(t *testing.T) *world {
	w := newWorld(t)
	w.env = append(w.env, "KEMBREL_ALLOW_RECEIVERS=127.0.0.0/8")
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	return w
}

// The build hall of the demo hears of an edition, restores and evaluates it, reports what it finds, and deploys it once
// a person has signed it off; killed in between, it does what is left when it is back.
func TestBuildHall(t *testing.T) {
	t.Parallel()
	w := tells(t)
	out, errs, code := run(w.record(w.harbour, "train", "--hidden", "24", "--clips", "960", "--epochs", "4", "--lr", "0.01",
		"--data"))
	require.Zero(t, code, out+errs)
	w.nothingWaits(t)
	w.kembrel(t, "people", "add", "buildhall", "--machine")
	w.kembrel(t, "roles", "set", "vessels", "--person", "buildhall", "--role", "member")
	token := strings.TrimSpace(w.kembrel(t, "people", "token", "buildhall"))
	w.kembrel(t, "catalogue", "create", "vessel-classifier", "--project", "vessels", "--standing", "in-use=1",
		"--needs", "in-use=every class", "--needs", "in-use=time for a clip")
	hears, serves := freeAddress(t), freeAddress(t)
	secret := strings.TrimSpace(w.kembrel(t, "subscriptions", "create", "build-hall", "http://"+hears+"/", "--project",
		"vessels", "--kind", "model.entered,model.given", "--report-as", "buildhall"))
	_, errs, code = w.try("subscriptions", "try", "build-hall", "--project", "vessels")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "nobody listens there")
	w.kembrel(t, "catalogue", "add", "vessels/1@best", "--model", "vessel-classifier")

	hall := func() (end func(syscall.Signal), said *lockedBuffer) {
		cmd := w.command(binary(t, "BUILDHALL_BINARY", "buildhall"), "--listen", hears, "--classifier", serves, "--folder",
			w.folder+"/hall", "--kembrel", w.binary, "--harbour", w.harbour, "--data", "test", "--lowest-recall", "0")
		cmd.Env = append(slices.Clone(cmd.Env), "KEMBREL_TOKEN="+token, "BUILDHALL_SECRET="+secret)
		said = &lockedBuffer{}
		cmd.Stdout, cmd.Stderr = said, said
		require.NoError(t, cmd.Start())
		ended := false
		end = func(s syscall.Signal) {
			if !ended {
				cmd.Process.Signal(s)
				cmd.Wait()
				ended = true
			}
		}
		t.Cleanup(func() { end(syscall.SIGINT) })
		return end, said
	}
	end, said := hall()
	says := func(what string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(said.String(), what) }, 120*time.Second,
			10*time.Millisecond, "%s", said)
	}
	says("restoring it") // it was down when the event was told first
	end(syscall.SIGKILL)
	_, said = hall()
	says("every class passed")
	says("time for a clip passed")
	shown := w.kembrel(t, "catalogue", "show", "vessel-classifier#1")
	require.Contains(t, shown, "lowest recall")
	require.Contains(t, shown, "buildhall")
	asks := w.command(w.binary, "catalogue", "propose", "vessel-classifier#1", "--why", "the first")
	asks.Env = append(slices.Clone(asks.Env), "KEMBREL_TOKEN="+token)
	out, errs, code = run(asks)
	require.Zero(t, code, out+errs)

	ctx, endBrowser, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer endBrowser()
	do(t, ctx, "sign in", chromedp.Navigate(strings.TrimSpace(w.kembrel(t, "sign-in", "--link"))),
		until(`document.querySelector('nav')`), chromedp.Navigate(w.url+"/vessels/subscriptions"),
		until(`document.querySelectorAll('tbody tr').length > 1`))
	shows(t, ctx, `document.querySelector("main").innerText`, "It takes what it is told.")
	for _, look := range []string{"light", "dark"} {
		require.Empty(t, axe(t, ctx), "subscriptions, %s", look)
		do(t, ctx, "look", act(`document.querySelector('header button').click()`))
	}
	do(t, ctx, "what was sent", act(`document.querySelectorAll('table')[1].querySelector('button').click()`),
		until(`document.querySelector('.opened pre')`))
	shows(t, ctx, `document.querySelector('.opened pre').innerText`, "not shown")
	require.Empty(t, axe(t, ctx), "a delivery")
	do(t, ctx, "send it again", act(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Send again').click()`))
	shows(t, ctx, `document.querySelector("main").innerText`, "It is told again.")
	do(t, ctx, "ask for another", act(`[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('New subscription')).click()`),
		until(`document.querySelector('.el-dialog input') && !document.querySelector('.dialog-fade-enter-active')`))
	require.Empty(t, axe(t, ctx), "the dialog")
	do(t, ctx, "fill it in", chromedp.SendKeys(`.el-dialog input[placeholder="build-hall"]`, "night-watch"),
		chromedp.SendKeys(`.el-dialog input[maxlength="2000"]`, "no address"),
		act(`document.querySelector('.el-dialog .el-button--primary').click()`))
	shows(t, ctx, `document.querySelector('.el-dialog').innerText`, "no address that can be told")
	do(t, ctx, "better", act(`document.querySelector('.el-dialog input[maxlength="2000"]').select()`),
		chromedp.SendKeys(`.el-dialog input[maxlength="2000"]`, "https://watch.harbour.example/"),
		act(`document.querySelector('.el-dialog .el-button--primary').click()`))
	shows(t, ctx, `document.querySelector("main").innerText`, "whsec_")

	w.kembrel(t, "catalogue", "sign", "vessel-classifier#1", "--why", "a day at the quay")
	says("answers at http://" + serves)
	require.Contains(t, w.kembrel(t, "catalogue", "show", "vessel-classifier"), "harbour-north")
	w.loads(t, "vessel-classifier#1")
	clip, errs, code := run(w.command(w.harbour, "clip"))
	require.Zero(t, code, errs)
	r, err := http.Post("http://"+serves+"/classify", "application/octet-stream", strings.NewReader(clip))
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	require.Contains(t, string(text), `"class"`)
}

// Events reach their receiver although the service, its database with it, is killed again and again.
func TestEventsSurviveKills(t *testing.T) {
	t.Parallel()
	w := tells(t)
	out, errs, code := run(w.record(w.harbour, "train", "--hidden", "4", "--clips", "32", "--epochs", "1"))
	require.Zero(t, code, out+errs)
	w.nothingWaits(t)
	var mutex sync.Mutex
	var secret string
	var came []string // ids, in order
	hall := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		mutex.Lock()
		defer mutex.Unlock()
		hook, wrong := standardwebhooks.NewWebhook(secret)
		var e struct{ ID, Type string }
		if err != nil || wrong != nil || hook.Verify(body, r.Header) != nil || json.Unmarshal(body, &e) != nil {
			rw.WriteHeader(http.StatusBadRequest)
			return
		}
		came = append(came, e.ID)
		time.Sleep(20 * time.Millisecond) // so that a kill finds some on their way
	}))
	t.Cleanup(hall.Close)
	mutex.Lock()
	secret = strings.TrimSpace(w.kembrel(t, "subscriptions", "create", "night-watch", hall.URL, "--project", "vessels",
		"--kind", "run.changed"))
	mutex.Unlock()
	rnd := rand.New(rand.NewPCG(5, 8))
	for round := range 4 {
		for i := range 10 {
			w.kembrel(t, "change", "vessels/1", "--title", fmt.Sprint(round, " ", i))
		}
		time.Sleep(time.Duration(rnd.IntN(200)) * time.Millisecond)
		w.stop(t, syscall.SIGKILL)
		w.start(t)
	}
	var events []api.Event
	w.decode(t, &events, "audit", "--kind", "run", "--verb", "changed", "--limit", "100", "--output", "json")
	require.Len(t, events, 40)
	require.Eventually(t, func() bool {
		mutex.Lock()
		defer mutex.Unlock()
		return !slices.ContainsFunc(events, func(e api.Event) bool { return !slices.Contains(came, fmt.Sprint(e.ID)) })
	}, 120*time.Second, 50*time.Millisecond)
	mutex.Lock()
	defer mutex.Unlock()
	var first []string
	for _, id := range came {
		if !slices.Contains(first, id) {
			first = append(first, id)
		}
	}
	for i := range 40 {
		require.Equal(t, fmt.Sprint(events[39-i].ID), first[i], "in the order in which they happened")
	}
}

// loads tries the lines that an edition's description gives for loading it, in each language.
func (w *world) loads(t *testing.T, edition string) {
	t.Helper()
	text := w.kembrel(t, "catalogue", "describe", edition)
	lines := func(language string) string {
		_, rest, found := strings.Cut(text, "```"+language+"\n")
		require.True(t, found, language)
		lines, _, _ := strings.Cut(rest, "\n```")
		return lines
	}
	bindings, err := filepath.Abs("../../bindings")
	require.NoError(t, err)
	module := w.folder + "/loads"
	require.NoError(t, os.MkdirAll(module, 0o755))
	require.NoError(t, os.WriteFile(module+"/go.mod", []byte("module loads\n\ngo 1.26\n\nrequire kembrel.internal/kembrel v0.0.0\n\n"+
		"replace kembrel.internal/kembrel => "+bindings+"/go\n"), 0o644))
	require.NoError(t, os.WriteFile(module+"/main.go", []byte("package main\n\nimport (\n\t\"fmt\"\n\t\"log\"\n\t\"os/exec\"\n\n\t"+
		"\"kembrel.internal/kembrel\"\n)\n\nfunc main() {\n\tvar wanted []kembrel.Tensor\n"+lines("go")+
		"\n\tfmt.Println(\"fits\", fit, err)\n}\n"), 0o644))
	for language, do := range map[string][]string{"sh": {"sh", "-ec", lines("sh")},
		"python": {"/usr/bin/python3", "-c", lines("python") + "\nprint('fits', len(weights))"}, "go": {"go", "run", "."}} {
		require.NoError(t, os.RemoveAll(module+"/model"))
		cmd := w.command(do[0], do[1:]...)
		cmd.Dir = module
		cmd.Env = append(slices.Clone(cmd.Env), "PATH="+filepath.Dir(w.binary)+":"+os.Getenv("PATH"),
			"PYTHONPATH="+bindings+"/python", "GOFLAGS=-mod=mod", "GOPROXY=off")
		out, errs, code := run(cmd)
		require.Zero(t, code, "%s: %s%s", language, out, errs)
		require.FileExists(t, module+"/model/weights.safetensors")
		if language != "sh" {
			require.Contains(t, out, "fits")
		}
	}
	w.kembrel(t, "catalogue", "describe", edition, "--to", w.folder+"/described.cdx.json")
	described, err := os.ReadFile(w.folder + "/described.cdx.json")
	require.NoError(t, err)
	require.Contains(t, string(described), `"machine-learning-model"`)
	_, errs, code := w.try("catalogue", "describe", edition, "--to", "described.xlsx")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "there are .md, .html and .cdx.json")
}
