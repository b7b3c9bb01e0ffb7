package web_test

import (
	"bufio"
	"compress/gzip"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/service"
	"kembrel/web"
)

// asked sends a request as it is: nothing is decompressed on the way back.
func (s *served) asked(t *testing.T, method, path string, header ...string) (*http.Response, []byte) {
	t.Helper()
	r, err := http.NewRequest(method, s.URL+path, nil)
	require.NoError(t, err)
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	response, err := (&http.Client{Transport: &http.Transport{DisableCompression: true, DisableKeepAlives: true}}).Do(r)
	require.NoError(t, err)
	defer response.Body.Close()
	content, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, content
}

// Answers are sent smaller where the client takes that and it pays; files, parts of them and the stream of events are
// sent as they are.
func TestAnswersAreCompressed(t *testing.T) {
	s := serveAs(t, service.Options{LostAfter: time.Hour})
	s.project(t)
	s.saved(t, noise(300_000, 1), 0.5, 0.3)
	for range 40 {
		s.leg(t)
	}
	list := "/api/v1/projects/vessels/runs"
	_, plain := s.asked(t, "GET", list, s.bearer()...)
	require.Greater(t, len(plain), 4096)
	response, small := s.asked(t, "GET", list, append(s.bearer(), "Accept-Encoding", "gzip")...)
	require.Equal(t, "gzip", response.Header.Get("Content-Encoding"))
	require.Contains(t, response.Header.Values("Vary"), "Accept-Encoding")
	require.Less(t, len(small), len(plain)/3)
	unzipped, err := gzip.NewReader(strings.NewReader(string(small)))
	require.NoError(t, err)
	again, err := io.ReadAll(unzipped)
	require.NoError(t, err)
	require.Equal(t, len(plain), len(again))
	response, small = s.asked(t, "GET", list, append(s.bearer(), "Accept-Encoding", "zstd, gzip, br")...)
	require.Equal(t, "zstd", response.Header.Get("Content-Encoding"))
	decoder, err := zstd.NewReader(strings.NewReader(string(small)))
	require.NoError(t, err)
	defer decoder.Close()
	again, err = io.ReadAll(decoder)
	require.NoError(t, err)
	require.Equal(t, len(plain), len(again))

	file := "/api/v1/projects/vessels/runs/1/checkpoints/last/file?path=shared"
	for _, more := range [][]string{nil, {"Range", "bytes=10-99"}} {
		response, content := s.asked(t, "GET", file, append(append(s.bearer(), "Accept-Encoding", "gzip"), more...)...)
		require.Empty(t, response.Header.Get("Content-Encoding"))
		require.Equal(t, "bytes", response.Header.Get("Accept-Ranges"))
		want := noise(300_000, 1)
		if more != nil {
			want = want[10:100]
		}
		require.Equal(t, want, content)
	}
	for _, odd := range []string{"gzip;q=0", "identity", "nonsense", ""} {
		response, content := s.asked(t, "GET", list, append(s.bearer(), "Accept-Encoding", odd)...)
		require.Empty(t, response.Header.Get("Content-Encoding"), odd)
		require.Len(t, content, len(plain))
	}
}

// Where GET is, HEAD is: the same head and no content, with the same rights.
func TestHeads(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.saved(t, noise(3000, 1), 0.5)
	for _, path := range []string{"/api/v1/projects", "/api/v1/projects/vessels/runs/1", "/api/v1/health",
		"/api/v1/projects/vessels/history", "/api/v1/projects/vessels/runs/1/checkpoints/last/file?path=shared", "/",
		"/assets/a.js"} {
		get, content := s.asked(t, "GET", path, s.bearer()...)
		head, none := s.asked(t, "HEAD", path, s.bearer()...)
		require.Equal(t, get.StatusCode, head.StatusCode, path)
		require.Equal(t, get.Header.Get("Content-Type"), head.Header.Get("Content-Type"), path)
		require.Equal(t, get.Header.Get("ETag"), head.Header.Get("ETag"), path)
		require.Empty(t, none, path)
		require.NotEmpty(t, content, path)
	}
	file := "/api/v1/projects/vessels/runs/1/checkpoints/last/file?path=shared"
	head, _ := s.asked(t, "HEAD", file, s.bearer()...)
	require.EqualValues(t, 3000, head.ContentLength)
	head, _ = s.asked(t, "HEAD", "/api/v1/projects/vessels/runs/9", s.bearer()...)
	require.Equal(t, http.StatusNotFound, head.StatusCode)
	head, _ = s.asked(t, "HEAD", "/api/v1/projects/vessels")
	require.Equal(t, http.StatusUnauthorized, head.StatusCode)
	head, _ = s.asked(t, "HEAD", "/api/v1/events", s.bearer()...)
	require.Equal(t, http.StatusMethodNotAllowed, head.StatusCode)
}

// What is refused before an operation is asked is a problem as well.
func TestRefusalsOfHTTPAreProblems(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.saved(t, noise(3000, 1), 0.5)
	file := "/api/v1/projects/vessels/runs/1/checkpoints/last/file?path=shared"
	for want, of := range map[string]struct {
		status int
		path   string
		header []string
	}{
		"no-range":      {416, file, []string{"Range", "bytes=3000-"}},
		"precondition":  {412, file, []string{"If-Match", `"other"`}},
		"too-long":      {414, "/api/v1/projects?shown=" + strings.Repeat("x", 17<<10), nil},
		"head-too-long": {431, file, []string{"X-Odd", strings.Repeat("x", 65<<10)}},
	} {
		for _, method := range []string{"GET", "HEAD"} {
			response, content := s.asked(t, method, of.path, append(s.bearer(), of.header...)...)
			require.Equal(t, of.status, response.StatusCode, want)
			require.Equal(t, "application/problem+json", response.Header.Get("Content-Type"), want)
			require.Empty(t, response.Header.Get("Content-Disposition"), want)
			if method == "HEAD" {
				require.Empty(t, content)
				continue
			}
			var p api.Problem
			require.NoError(t, json.Unmarshal(content, &p), want)
			require.Equal(t, []any{"urn:kembrel:problem:" + want, of.status}, []any{p.Type, p.Status})
		}
	}
	response, _ := s.asked(t, "GET", file, append(s.bearer(), "Range", "bytes=3000-")...)
	require.Equal(t, "bytes */3000", response.Header.Get("Content-Range"))
}

// Refusals of Go's own server, before any handler, are problems as well; what is asked after one that was answered is
// answered, and files go as before.
func TestRefusalsOfTheServerAreProblems(t *testing.T) {
	s := serve(t)
	running, stop := context.WithCancel(ctx)
	at, ended := make(chan string, 1), make(chan error, 1)
	console := fstest.MapFS{"index.html": {Data: []byte("<!doctype html>")}}
	bound := web.New(s.service, web.Options{Log: slog.New(slog.DiscardHandler), Version: "1", Console: console})
	go func() {
		ended <- bound.Serve(running, "127.0.0.1:0", "", func(address string) error { at <- address; return nil })
	}()
	defer func() { stop(); require.NoError(t, <-ended) }()
	address := <-at
	for sent, want := range map[string]struct {
		kind   string
		status int
	}{
		"GET /api/v1 HTTP/1.1\r\nHost: a\r\nExpect: a-miracle\r\n\r\n":                      {"expectation", 417},
		"GET / HTTP/1.1\r\nHost: a\r\n\r\nGET / HTTP/1.1\r\nHost: a\r\nExpect: 200\r\n\r\n": {"expectation", 417},
		"GET / HTTP/1.1\r\n\r\n":                                                       {"malformed", 400},
		"this is no HTTP\r\n\r\n":                                                      {"malformed", 400},
		"GET / HTTP/3.7\r\nHost: a\r\n\r\n":                                            {"malformed", 400},
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: heap\r\n\r\n":                {"malformed", 400},
		"GET / HTTP/1.1\r\nHost: a\r\nX: " + strings.Repeat("x", 400<<10) + "\r\n\r\n": {"head-too-long", 431},
		"GET / HTTP/1.1\r\nHost: a\r\nAccept: text/plain\r\nExpect: a: close\r\n\r\n":  {"expectation", 417},
	} {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		_, err = io.WriteString(conn, sent)
		require.NoError(t, err)
		r := bufio.NewReader(conn)
		var last *http.Response
		var content []byte
		for range strings.Count(sent, "GET / HTTP/1.1\r\nHost: a\r\n\r\nGET") + 1 {
			last, err = http.ReadResponse(r, nil)
			require.NoError(t, err, "%.60q", sent)
			content, err = io.ReadAll(last.Body)
			require.NoError(t, err)
		}
		require.Equal(t, want.status, last.StatusCode, "%.60q: %s", sent, content)
		require.Equal(t, "application/problem+json", last.Header.Get("Content-Type"))
		require.True(t, last.Close)
		var p api.Problem
		require.NoError(t, json.Unmarshal(content, &p), "%s", content)
		require.Equal(t, []any{"urn:kembrel:problem:" + want.kind, want.status}, []any{p.Type, p.Status})
		require.NotEmpty(t, p.Detail)
		t.Log(p.Status, p.Detail)
		conn.Close()
	}
	over2 := httptest.NewRequest("GET", "/", nil) // where a handler is asked all the same
	over2.Header.Set("Expect", "a-miracle")
	answer := httptest.NewRecorder()
	bound.Handler().ServeHTTP(answer, over2)
	require.Equal(t, http.StatusExpectationFailed, answer.Code)
	expected, err := http.NewRequest("GET", "http://"+address+"/", strings.NewReader("content"))
	require.NoError(t, err)
	expected.Header.Set("Expect", "100-continue")
	response, err := http.DefaultClient.Do(expected)
	require.NoError(t, err)
	response.Body.Close()
	require.Equal(t, http.StatusOK, response.StatusCode)
}
