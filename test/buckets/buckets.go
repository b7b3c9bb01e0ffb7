// Package buckets gives a test an S3 server of its own, in memory.
package buckets

import (
	"crypto/rand"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/require"
)

// Variable names a bucket of a server that runs; tests then use that instead of one in memory (make test-bucket).
const Variable = "KEMBREL_TEST_BUCKET"

// New starts a server with a bucket and returns the address of a place in it, as kembrel takes it. The keys are set in
// the environment. What is wrapped around the server's handler may disturb it.
func New(t *testing.T, bucket string, around ...func(http.Handler) http.Handler) string {
	if place := os.Getenv(Variable); place != "" && len(around) == 0 {
		return strings.Replace(place, "/blobs", "/"+rand.Text(), 1)
	}
	backend := s3mem.New()
	require.NoError(t, backend.CreateBucket(bucket))
	handler := gofakes3.New(backend, gofakes3.WithGlobalLog()).Server()
	for _, wrap := range around {
		handler = wrap(handler)
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(io.Discard, nil)))
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	t.Setenv("AWS_ACCESS_KEY_ID", "kembrel")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "kembrel-secret")
	return "s3://" + bucket + "/blobs?endpoint=" + url.QueryEscape(server.URL)
}
