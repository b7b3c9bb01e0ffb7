package recorder

import (
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
)

// A signal while the checkpoint to go on from is awaited ends the waiting; the program is not to be started then.
func TestSignalBeforeTheProgramStarts(t *testing.T) {
	signals, asked := make(chan os.Signal, 1), make(chan struct{})
	slow := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		asked <- struct{}{}
		<-r.Context().Done()
	}))
	t.Cleanup(slow.Close)
	o := Options{Service: slow.URL, Project: "vessels", Roots: []string{t.TempDir()},
		Begin: &Beginning{Number: 1, Done: func() {}, Got: func(int64) {},
			Checkpoint: &api.Checkpoint{Address: "vessels/1@s5", Files: []api.File{{Part: "weights", Path: "w",
				Size: 4, Chunks: []api.Piece{{Digest: "b3:" + strings.Repeat("0", 64), Size: 4}}}}}},
		Connect: func(service string) *client.Client { return client.New(service, "") }}
	go func() {
		<-asked
		signals <- syscall.SIGINT
	}()
	r, early, err := beginUnless(t.Context(), signals, o, api.Recipe{})
	require.Nil(t, r)
	require.Error(t, err)
	require.Equal(t, syscall.SIGINT, early)
	require.Equal(t, "stopped", unstarted(early).State)
	require.Equal(t, "failed", unstarted(syscall.SIGTERM).State)
}
