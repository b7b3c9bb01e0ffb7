package blob

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

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

// A connection that is cut while a blob is read is taken up where it was; a server that keeps cutting it is an error
// that says so.
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

// switched is a server that can be away: then it closes every connection without a word.
func switched(away *atomic.Bool, seen func(r *http.Request)) func(http.Handler) http.Handler {
	return func(inner http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if seen != nil {
				seen(r)
			}
			if away.Load() {
				panic(http.ErrAbortHandler)
			}
			inner.ServeHTTP(w, r)
		})
	}
}

// A server that is away is told as such, soon, and is there again when it is back. It is no blob that is missing.
func TestS3Away(t *testing.T) {
	var away atomic.Bool
	away.Store(true)
	place := buckets.New(t, "kembrel", switched(&away, nil))
	s, err := NewS3(t.Context(), place)
	require.ErrorIs(t, err, ErrAway)
	require.NotNil(t, s, "it may answer later")
	away.Store(false)
	require.NoError(t, s.Ready(t.Context()))
	require.NoError(t, s.Put(t.Context(), "pack/one", strings.NewReader("bytes")))
	away.Store(true)
	began := time.Now()
	require.ErrorIs(t, s.Ready(t.Context()), ErrAway)
	for what, do := range map[string]func() error{
		"get":  func() error { _, err := s.Get(t.Context(), "pack/one", 0, 0); return err },
		"size": func() error { _, err := s.Size(t.Context(), "pack/one"); return err },
		"put":  func() error { return s.Put(t.Context(), "pack/two", strings.NewReader("bytes")) },
	} {
		err := do()
		require.ErrorIs(t, err, ErrAway, what)
		require.NotErrorIs(t, err, ErrNone, what)
	}
	require.Less(t, time.Since(began), 90*time.Second)
	away.Store(false)
	size, err := s.Size(t.Context(), "pack/one")
	require.NoError(t, err)
	require.EqualValues(t, 5, size)
	_, err = NewS3(t.Context(), strings.Replace(place, "s3://kembrel", "s3://nowhere", 1))
	require.ErrorContains(t, err, "there is no bucket")
	require.NotErrorIs(t, err, ErrAway)
}

// What is given up in the middle leaves no parts behind.
func TestS3LeavesNoParts(t *testing.T) {
	var away atomic.Bool
	var parts atomic.Int64
	ctx, giveUp := context.WithCancel(t.Context())
	place := buckets.New(t, "kembrel", switched(&away, func(r *http.Request) {
		if r.Method == http.MethodPut && r.URL.Query().Get("partNumber") == "2" && parts.Add(1) == 1 {
			giveUp()
		}
	}))
	s, err := NewS3(t.Context(), place)
	require.NoError(t, err)
	require.Error(t, s.Put(ctx, "pack/given-up", bytes.NewReader(make([]byte, 3*partSize))))
	for left := range s.core.Client.ListIncompleteUploads(t.Context(), s.bucket, s.prefix, true) {
		require.NoError(t, left.Err)
		require.Fail(t, "parts are left", left.Key)
	}
	require.NoError(t, s.Tidy(t.Context()))
}
