package web_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/web"
)

// replica is a server on the service of a test, as kembrel serve runs one.
type replica struct {
	at    string
	end   context.CancelFunc
	ended chan error
}

func (s *served) replica(t *testing.T, at string) *replica {
	t.Helper()
	bound := web.New(s.service, web.Options{Log: slog.New(slog.DiscardHandler), Version: "1"})
	running, end := context.WithCancel(t.Context())
	r := &replica{end: end, ended: make(chan error, 1)}
	began := make(chan string, 1)
	go func() {
		r.ended <- bound.Serve(running, at, "", func(address string) error { began <- address; return nil })
	}()
	select {
	case r.at = <-began:
	case err := <-r.ended:
		require.NoError(t, err)
	}
	return r
}

func (r *replica) stop(t *testing.T) {
	t.Helper()
	r.end()
	require.NoError(t, <-r.ended)
}

// A request that is under way when the service ends is answered, one that comes then is sent elsewhere, and streams are
// told.
func TestEndingCutsNothing(t *testing.T) {
	s := serve(t)
	s.project(t)
	r := s.replica(t, "127.0.0.1:0")
	conn, err := net.Dial("tcp", r.at)
	require.NoError(t, err)
	defer conn.Close()
	body := `{"title":"Renamed at the very end"}`
	fmt.Fprintf(conn, "PATCH /api/v1/projects/vessels HTTP/1.1\r\nHost: kembrel\r\nAuthorization: Bearer %s\r\n"+
		"Content-Type: application/json\r\nContent-Length: %d\r\n\r\n%s", s.Token, len(body), body[:10])
	stream, err := http.NewRequest("GET", "http://"+r.at+"/api/v1/events", nil)
	require.NoError(t, err)
	stream.Header.Set("Authorization", "Bearer "+s.Token)
	events, err := http.DefaultClient.Do(stream)
	require.NoError(t, err)
	defer events.Body.Close()
	lines := bufio.NewReader(events.Body)
	_, err = lines.ReadString('\n')
	require.NoError(t, err)
	idle, err := net.Dial("tcp", r.at) // open before the end, used behind it
	require.NoError(t, err)
	defer idle.Close()

	r.end()
	rest, err := io.ReadAll(lines)
	require.NoError(t, err)
	require.Contains(t, string(rest), "event: closing\n")
	fmt.Fprintf(idle, "GET /api/v1/projects HTTP/1.1\r\nHost: kembrel\r\nAuthorization: Bearer %s\r\n\r\n", s.Token)
	turned, err := http.ReadResponse(bufio.NewReader(idle), nil)
	require.NoError(t, err)
	require.Equal(t, 503, turned.StatusCode)
	require.Equal(t, "1", turned.Header.Get("Retry-After"))
	time.Sleep(time.Second) // the disk, or the other side, takes its time
	_, err = io.WriteString(conn, body[10:])
	require.NoError(t, err)
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	require.Equal(t, 200, answer.StatusCode)
	require.NoError(t, <-r.ended)
	require.Equal(t, "Renamed at the very end", call(t, s, api.GetProject, &vessels).Title)
}

// balancer is a proxy before replicas, which goes to the next where one cannot be reached.
type balancer struct {
	mutex sync.Mutex
	to    []string
	turn  atomic.Int64
}

func (b *balancer) RoundTrip(r *http.Request) (answer *http.Response, err error) {
	for range 3 {
		b.mutex.Lock()
		r.URL.Host = b.to[b.turn.Add(1)%int64(len(b.to))]
		b.mutex.Unlock()
		if answer, err = http.DefaultTransport.RoundTrip(r); err == nil {
			return answer, nil
		}
	}
	return nil, err
}

// Three replicas behind a proxy are restarted one after another: of a thousand reads none fails.
func TestARollingRestartRefusesNothing(t *testing.T) {
	s := serve(t)
	s.project(t)
	b := &balancer{}
	replicas := make([]*replica, 3)
	for i := range replicas {
		replicas[i] = s.replica(t, "127.0.0.1:0")
		b.to = append(b.to, replicas[i].at)
	}
	proxy := httptest.NewServer(&httputil.ReverseProxy{Transport: b, Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(&url.URL{Scheme: "http", Host: "replicas"})
	}})
	defer proxy.Close()
	c := client.New(strings.TrimSuffix(proxy.URL, "/"), s.Token)
	var reads atomic.Int64
	failed := make(chan error, 1000)
	var readers sync.WaitGroup
	for range 4 {
		readers.Go(func() {
			for reads.Add(1) <= 1000 {
				if _, err := client.Call(ctx, c, api.GetProject, &vessels); err != nil {
					failed <- err
				}
				time.Sleep(5 * time.Millisecond) // so that the restarts fall among them
			}
		})
	}
	for _, r := range replicas {
		r.stop(t)
		next := s.replica(t, r.at)
		t.Cleanup(func() { next.stop(t) })
	}
	require.Less(t, reads.Load(), int64(1000), "the restarts were over before the reads")
	readers.Wait()
	close(failed)
	for err := range failed {
		require.NoError(t, err)
	}
}
