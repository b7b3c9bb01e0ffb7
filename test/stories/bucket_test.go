package stories

import (
	"io"
	"net/http"
	"os/exec"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/test/buckets"
)

// The bucket is away at the start, is there, is away again while a run trains, and is back: the service says so all
// along, and nothing is lost.
func TestBucketComesAndGoes(t *testing.T) {
	var away atomic.Bool
	away.Store(true)
	place := buckets.New(t, "kembrel", func(inner http.Handler) http.Handler {
		return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
			if away.Load() {
				panic(http.ErrAbortHandler)
			}
			inner.ServeHTTP(rw, r)
		})
	})
	w := newWorld(t)
	w.env = append(w.env, "KEMBREL_BLOBS="+place, "AWS_ACCESS_KEY_ID=kembrel", "AWS_SECRET_ACCESS_KEY=kembrel-secret")
	w.said = &lockedBuffer{}
	w.up = exec.Command(w.binary, "start")
	w.up.Env, w.up.Stderr, w.up.Stdout = w.env, w.said, w.said
	require.NoError(t, w.up.Start())
	status := func(path string) (int, string) {
		response, err := http.Get(w.url + path)
		if err != nil {
			return 0, ""
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(text)
	}
	require.Eventually(t, func() bool { code, _ := status("/api/v1/health"); return code == 200 }, 90*time.Second,
		100*time.Millisecond, "it starts all the same")
	require.Contains(t, w.said.String(), "the blob store does not answer yet")
	code, text := status("/api/v1/ready")
	require.Equal(t, 503, code)
	require.Contains(t, text, "the blob store does not answer")
	w.kembrel(t, "projects", "create", "vessels")
	away.Store(false)
	require.Eventually(t, w.ready, 30*time.Second, 100*time.Millisecond)
	w.train(t, w.folder+"/keep", "--save-every", "3")
	away.Store(true)
	began := time.Now()
	_, errs, exit := w.try("restore", "vessels/1@best", "--into", w.folder+"/model")
	require.NotZero(t, exit)
	require.Contains(t, errs, "given up after")
	require.Contains(t, errs, "the blob store does not answer")
	require.Less(t, time.Since(began), 3*time.Minute)
	cmd := w.recordWith([]string{"--wait", "2s"}, w.harbour, "train", "--hidden", "8", "--clips", "320", "--epochs",
		"4", "--save-every", "2")
	_, errs, exit = run(cmd)
	require.Zero(t, exit, errs)
	away.Store(false)
	require.Eventually(t, w.ready, 30*time.Second, 100*time.Millisecond)
	if strings.Contains(w.kembrel(t, "spool"), "left") {
		w.kembrel(t, "spool", "send")
	}
	w.nothingWaits(t)
	w.kembrel(t, "restore", "vessels/1@best", "--into", w.folder+"/model")
	w.kembrel(t, "restore", "vessels/2@last", "--into", w.folder+"/model2")
	require.Contains(t, w.kembrel(t, "blobs", "check"), "are what they are named by")
	w.stop(t, syscall.SIGINT)
}
