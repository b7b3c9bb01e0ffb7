package blob

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/test/buckets"
)

func TestS3(t *testing.T) {
	place := buckets.New(t, "kembrel")
	conformance(t, func() Store {
		s, err := NewS3(t.Context(), place)
		require.NoError(t, err)
		return s
	})
}

// Large blobs go and come in parts.
func TestS3InParts(t *testing.T) {
	s, err := NewS3(t.Context(), buckets.New(t, "kembrel"))
	require.NoError(t, err)
	content := make([]byte, 2*partSize+12345)
	rand.NewChaCha8([32]byte{1}).Read(content)
	require.NoError(t, s.Put(t.Context(), "pack/large", bytes.NewReader(content)))
	a, err := s.Append("pack/appended")
	require.NoError(t, err)
	_, err = a.WriteAt(content, 0)
	require.NoError(t, err)
	require.NoError(t, a.Sync(t.Context()))
	require.NoError(t, a.Close())
	for _, name := range []string{"pack/large", "pack/appended"} {
		r, err := s.Get(t.Context(), name, 0, 0)
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.True(t, bytes.Equal(content, got), name)
		r, err = s.Get(t.Context(), name, partSize-5, 10)
		require.NoError(t, err)
		got, err = io.ReadAll(r)
		require.NoError(t, err)
		require.Equal(t, content[partSize-5:partSize+5], got)
		require.NoError(t, r.Close())
	}
}

// A connection that is cut while a blob is read is taken up where it was; a server that keeps cutting it is an error that says so.
func TestS3CutOff(t *testing.T) {
	var cuts atomic.Int64
	place := buckets.New(t, "kembrel", func(inner http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/pack/one") && cuts.Add(-1) >= 0 {
				recorded := httptest.NewRecorder()
				inner.ServeHTTP(recorded, r)
				for name, values := range recorded.Header() {
					w.Header()[name] = values
				}
				w.WriteHeader(recorded.Code)
				w.Write(recorded.Body.Bytes()[:recorded.Body.Len()/2])
				w.(http.Flusher).Flush()
				panic(http.ErrAbortHandler)
			}
			inner.ServeHTTP(w, r)
		})
	})
	s, err := NewS3(t.Context(), place)
	require.NoError(t, err)
	content := make([]byte, 1<<20)
	rand.NewChaCha8([32]byte{2}).Read(content)
	require.NoError(t, s.Put(t.Context(), "pack/one", bytes.NewReader(content)))
	read := func() ([]byte, error) {
		r, err := s.Get(t.Context(), "pack/one", 100, 1_000_000)
		require.NoError(t, err)
		defer r.Close()
		return io.ReadAll(r)
	}
	cuts.Store(3)
	got, err := read()
	require.NoError(t, err)
	require.True(t, bytes.Equal(content[100:1_000_100], got))
	cuts.Store(100)
	_, err = read()
	require.ErrorContains(t, err, "was cut off")
	require.NotErrorIs(t, err, io.ErrUnexpectedEOF, "it is not short")
}

func TestS3Addresses(t *testing.T) {
	place := buckets.New(t, "kembrel")
	for bad, says := range map[string]string{
		"s3://":                       "no address of a bucket",
		"s3://kembrel":                "say where the server is",
		"s3://kembrel?endpoint=hydra": "say where the server is",
		place + "&speed=9":            "no \"speed\"",
		place + "&credentials=guess":  "credentials is",
		strings.Replace(place, "kembrel", "nothing", 1): "there is no bucket nothing",
		"gs://kembrel": "not at gs://",
	} {
		_, err := Open(t.Context(), bad)
		require.ErrorContains(t, err, says, bad)
	}
	t.Setenv("AWS_SECRET_ACCESS_KEY", "")
	l, err := Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	require.True(t, l.Grows())
}
