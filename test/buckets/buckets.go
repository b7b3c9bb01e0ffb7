// Package buckets gives a test an S3 server of its own, in memory.
package buckets

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/require"
)

// New starts a server with a bucket and returns the address of a place in it, as kembrel takes it. The keys are set in the environment.
// What is wrapped around the server's handler may disturb it.
func New(t *testing.T, bucket string, around ...func(http.Handler) http.Handler) string {
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
