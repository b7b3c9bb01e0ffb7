package web_test

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel.internal/kembrel"

	"kembrel/web"
)

// A program elsewhere takes the Go binding from the service with the go command alone, and nothing else with it.
func TestGoModule(t *testing.T) {
	s := serve(t)
	served := httptest.NewServer(web.New(s.service, web.Options{Log: slog.New(slog.DiscardHandler), Go: kembrel.Source,
		GoTime: time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)}).Handler())
	defer served.Close()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "main.go"), []byte(`package main

import (
	"context"
	"fmt"

	"kembrel.internal/kembrel"
)

func main() {
	run, err := kembrel.Record(context.Background(), kembrel.Options{Project: "vessels"})
	run.Readings(1, 1, kembrel.V("loss.val", 0.5))
	fmt.Println(err)
}
`), 0o600))
	do := func(args ...string) string {
		t.Helper()
		cmd := exec.Command("go", args...)
		cmd.Dir = folder
		cmd.Env = append(os.Environ(), "GOPROXY="+served.URL+"/go", "GONOSUMDB=kembrel.internal", "GOWORK=off",
			"GOFLAGS=-modcacherw", "GOMODCACHE="+filepath.Join(folder, "cache"), "KEMBREL_BINARY=/nowhere/kembrel",
			"KEMBREL_RECORDER=")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "go %s: %s", strings.Join(args, " "), out)
		return string(out)
	}
	do("mod", "init", "trainer")
	require.Contains(t, do("get", "kembrel.internal/kembrel"), "v1.0.0-20261128120000-")
	require.Contains(t, do("run", "."), "nothing is recorded")
	do("mod", "tidy")
	require.Len(t, strings.Fields(do("list", "-m", "all")), 3, "trainer, and the binding with its version")

	for path, status := range map[string]int{"/kembrel.internal/kembrel/@v/list": 200,
		"/kembrel.internal/kembrel/@latest": 200, "/kembrel.internal/kembrel/@v/v1.0.0.zip": 404,
		"/elsewhere.example/x/@latest": 404, "/": 404} {
		response, err := http.Get(served.URL + "/go" + path)
		require.NoError(t, err)
		response.Body.Close()
		require.Equal(t, status, response.StatusCode, path)
	}
	broken := httptest.NewServer(web.New(s.service, web.Options{Log: slog.New(slog.DiscardHandler),
		Go: fstest.MapFS{}}).Handler())
	defer broken.Close()
	response, err := http.Get(broken.URL + "/go/kembrel.internal/kembrel/@latest")
	require.NoError(t, err)
	defer response.Body.Close()
	require.Equal(t, http.StatusInternalServerError, response.StatusCode)
}
