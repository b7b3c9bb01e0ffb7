package stories

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/test/browser"
)

// refusing stands before the service and refuses what it is told to.
type refusing struct {
	*httptest.Server
	mutex  sync.Mutex
	refuse func(r *http.Request, body string) *api.Problem
}

func (w *world) refusing(t *testing.T) *refusing {
	target, err := url.Parse(w.url)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	r := &refusing{}
	r.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, request *http.Request) {
		body, _ := io.ReadAll(request.Body)
		request.Body = io.NopCloser(bytes.NewReader(body))
		r.mutex.Lock()
		refuse := r.refuse
		r.mutex.Unlock()
		if p := refuse(request, string(body)); p != nil {
			rw.Header().Set("Content-Type", "application/problem+json")
			rw.WriteHeader(p.Status)
			json.NewEncoder(rw).Encode(p)
			return
		}
		proxy.ServeHTTP(rw, request)
	}))
	t.Cleanup(r.Close)
	return r
}

func (r *refusing) set(refuse func(r *http.Request, body string) *api.Problem) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.refuse = refuse
}

// through is a world that reaches the service by another address, signed in.
func (w *world) through(t *testing.T, address string) *world {
	other := *w
	other.env = append(append([]string{}, w.env...), "KEMBREL_URL="+address,
		"KEMBREL_TOKEN="+strings.TrimSpace(w.kembrel(t, "tokens", "create", "through")))
	return &other
}

// bads are what is refused of a run, by the path of the operation.
var bads = map[string]string{"/runs": "badhyper", "/curves": "badcurve", "/batches": "badnote",
	"/checkpoints": "badwhy", "/output": "badline", "/end": "badline"}

// Whatever the service refuses for good costs itself only: everything else of the run is there, and the run and the
// person are told.
func TestEveryRefusalOfAnItem(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	r := w.refusing(t)
	r.set(func(*http.Request, string) *api.Problem { return nil })
	through := w.through(t, r.URL)
	var seen []string
	number := 0
	for _, kind := range []api.Kind{api.Invalid, api.Malformed, api.TooLarge, api.Conflict, api.Mismatch, api.BadMedia,
		api.Precondition, api.NotAllowed, api.Gone, api.Internal, api.TooSlow} {
		number++
		r.set(func(request *http.Request, body string) *api.Problem {
			for path, bad := range bads {
				if request.Method == "POST" && strings.HasSuffix(request.URL.Path, path) &&
					strings.Contains(body, bad) {
					r.mutex.Lock()
					seen = append(seen, path)
					r.mutex.Unlock()
					return api.Fail(kind, "this is refused")
				}
			}
			return nil
		})
		seen = nil
		lines := []string{`{"kind":"hyper","id":1,"values":{"depth":3}}`, `{"kind":"note","id":2,"text":"badnote"}`,
			`{"kind":"note","id":3,"text":"a good note"}`}
		for i := 1; i <= 20; i++ {
			lines = append(lines,
				fmt.Sprintf(`{"kind":"readings","id":%d,"step":%d,"epoch":%d,"values":{"loss.val":%d,"badcurve.val":1,"accuracy.val":0.5}}`, 3+i, i, i, i))
		}
		for i, why := range []string{"badwhy", "good"} {
			lines = append(lines, fmt.Sprintf(`{"kind":"checkpoint","do":"begin","id":%d,"step":%d,"why":%q}`, 30+2*i,
				20+i, why), "write w",
				fmt.Sprintf(`{"kind":"checkpoint","do":"commit","id":%d,"checkpoint":"KEY","parts":{"weights":["w"]}}`,
					31+2*i))
		}
		cmd := through.command(w.binary, "record", "--project", "vessels", "--hyper", "kept=1", "--hyper",
			"path=badhyper", "--wait", "30s", "--", os.Args[0])
		cmd = through.speakAs(cmd, append(lines, "print badline", "print a good line")...)
		_, errs, code := run(cmd)
		require.Zero(t, code, "%s: %s", kind, errs)
		for path := range bads {
			require.Contains(t, seen, path, "%s was refused at all", kind)
		}
		address := fmt.Sprintf("vessels/%d", number)
		run := w.show(t, address)
		require.Equal(t, "finished", run.State, kind)
		c := w.curves(t, address)
		require.Len(t, c["loss.val"].Value, 20, kind)
		require.Len(t, c["accuracy.val"].Value, 20, kind)
		require.NotContains(t, c, "badcurve.val")
		require.Equal(t, "3", string(run.Hyper["depth"]), kind)
		require.Equal(t, 1, run.Checkpoints, kind)
		notes := ""
		for _, n := range run.Notes {
			notes += n.Text + "\n"
		}
		for _, told := range []string{"a good note", "refused a note", `refused the curve "badcurve.val"`,
			"its hyperparameters", "checkpoint of step 20 is not with the service",
			"refused a piece of the program's output"} {
			require.Contains(t, notes, told, kind)
		}
		for _, told := range []string{"a note", "badcurve.val", "its hyperparameters", "checkpoint of step 20",
			"see kembrel spool"} {
			require.Contains(t, errs, told, kind)
		}
	}
	spools := w.kembrel(t, "spool")
	require.Equal(t, number, strings.Count(spools, "left"),
		"what was refused stays, to be looked at or given up:\n%s", spools)
}

// What refuses a run as a whole costs nothing: it waits in the spool, and is sent when that is put right.
func TestEveryRefusalOfARun(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	r := w.refusing(t)
	through := w.through(t, r.URL)
	for i, kind := range []api.Kind{api.Denied, api.NotFound, api.TooOld, api.SignedOut, api.Unavailable, api.TooMany,
		api.LegClaimed, api.NoRoom, api.ChunkGone} {
		r.set(func(*http.Request, string) *api.Problem { return api.Fail(kind, "this is refused") })
		cmd := through.command(w.binary, "record", "--project", "vessels", "--wait", "1s", "--", os.Args[0])
		out, errs, code := run(through.speakAs(cmd,
			`{"kind":"readings","id":1,"step":1,"epoch":1,"values":{"loss.val":1}}`,
			`{"kind":"readings","id":2,"step":2,"epoch":2,"values":{"loss.val":2}}`))
		require.Zero(t, code, "%s: %s", kind, errs)
		require.Contains(t, out, `"kept"`, kind)
		require.Contains(t, errs, "spool", kind)
		r.set(func(*http.Request, string) *api.Problem { return nil })
		require.Contains(t, through.kembrel(t, "spool", "send"), "sent 2 readings", kind)
		require.Len(t, w.curves(t, fmt.Sprintf("vessels/%d", i+1))["loss.val"].Value, 2, kind)
	}
	w.nothingWaits(t)
}

// A hyperparameter that is no UTF-8 is one like any other.
func TestHyperparametersThatAreNoUTF8(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	cmd := w.command(w.binary, "record", "--project", "vessels", "--hyper", "data=/srv/k\xfcste", "--hyper",
		"quoted=\"k\xfcste\"", "--", os.Args[0])
	out, errs, code := run(w.speakAs(cmd,
		`{"kind":"hyper","id":1,"values":{"lone":"a\ud800b","zero":"a\u0000b","lr":0.03,"nest":{"a":1}}}`,
		`{"kind":"readings","id":2,"step":1,"values":{"loss.val":1}}`))
	require.Zero(t, code, errs)
	require.Contains(t, out, `"kept"`)
	require.Contains(t, errs, `hyperparameter "nest" is not kept`)
	w.nothingWaits(t)
	run := w.show(t, "vessels/1")
	for name, want := range map[string]string{"data": "\"/srv/k\uFFFDste\"", "quoted": "\"k\uFFFDste\"",
		"lone": "\"a\uFFFDb\"", "zero": "\"a\uFFFDb\"", "lr": "0.03"} {
		require.Equal(t, want, string(run.Hyper[name]), name)
	}
	require.NotContains(t, run.Hyper, "nest")
}

// A proxy that answers 502 for a while makes the browser give up the live stream: the page says that it may be out of
// date, reopens the stream by itself, and shows what happened meanwhile.
func TestTheLiveStreamComesBack(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	proxy := w.refusing(t)
	var refused atomic.Int32
	proxy.set(func(*http.Request, string) *api.Problem { return nil })
	ctx, end, err := browser.Open(context.Background(), false)
	require.NoError(t, err)
	defer end()
	link := strings.Replace(strings.TrimSpace(w.kembrel(t, "sign-in", "--link")), w.url, proxy.URL, 1)
	do(t, ctx, "enter by the link", chromedp.Navigate(link), chromedp.WaitVisible(`tbody a[href="/vessels"]`))
	do(t, ctx, "open the project", chromedp.Click(`tbody a[href="/vessels"]`),
		until(`/Record the first one/.test(document.body.innerText)`))
	mark := await[int](t, ctx, "window.stayed = 43", nil)
	proxy.set(func(r *http.Request, _ string) *api.Problem {
		if strings.HasSuffix(r.URL.Path, "/events") {
			refused.Add(1)
			return &api.Problem{Status: http.StatusBadGateway}
		}
		return nil
	})
	proxy.CloseClientConnections()
	require.Eventually(t, func() bool { return refused.Load() >= 2 }, time.Minute, 20*time.Millisecond)
	shows(t, ctx, "document.querySelector('.behind').innerText", "Live updates are interrupted")
	out, errs, code := run(w.speak(`{"kind":"readings","step":1,"epoch":1,"values":{"loss.val":0.5}}`))
	require.Zero(t, code, out+errs)
	proxy.set(func(*http.Request, string) *api.Problem { return nil })
	do(t, ctx, "the run appears", chromedp.WaitVisible(`a[href="/vessels/1"]`), until(`!document.querySelector('.behind')`))
	is(t, ctx, "window.stayed", mark, "without reload")
}

// A sheet that the service takes for ever over holds up nothing: the checkpoint behind it, and the run's end, are
// there.
func TestNothingWaitsBehindASheet(t *testing.T) {
	t.Parallel()
	w, here := pythonWorld(t)
	proxy := w.refusing(t)
	stuck := make(chan struct{})
	proxy.set(func(r *http.Request, _ string) *api.Problem {
		if r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/sheets") {
			<-stuck
		}
		return nil
	})
	through := w.through(t, proxy.URL)
	at := w.folder + "/slow.py"
	require.NoError(t, os.WriteFile(at, []byte(`
import kembrel
with kembrel.record("vessels") as run:
    run.readings(1, 1, {"loss.val": 0.5})
    assert run.predictions("val", ["a", "b"], true=[0, 1], predicted=[0, 0], classes=["tug", "ferry"], epoch=1)
    run.save(1, 1, weights={"w": 1.5})
`), 0o644))
	cmd := through.record("/usr/bin/python3", at)
	cmd.Env = append(cmd.Env, "PYTHONPATH="+here)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		_, _, code := w.try("show", "vessels/1@last")
		return code == 0 && w.show(t, "vessels/1").State == "finished"
	}, time.Minute, 100*time.Millisecond)
	close(stuck)
	require.NoError(t, cmd.Wait())
	require.Contains(t, w.kembrel(t, "predictions", "vessels/1"), "val")
}
