package subscriptions

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"kembrel/core/notice"
)

// names is a resolver that answers each question with the next address, the last for ever.
func names(t *testing.T, addresses ...string) *net.Resolver {
	at, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { at.Close() })
	var asked atomic.Int64
	go func() {
		buffer := make([]byte, 1500)
		for {
			n, from, err := at.ReadFrom(buffer)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(buffer[:n]) != nil || len(m.Questions) != 1 {
				continue
			}
			m.Response, m.Additionals = true, nil
			if q := m.Questions[0]; q.Type == dnsmessage.TypeA {
				a := netip.MustParseAddr(addresses[min(int(asked.Add(1)), len(addresses))-1]).As4()
				m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type,
					Class: dnsmessage.ClassINET}, Body: &dnsmessage.AResource{A: a}}}
			}
			if answer, err := m.Pack(); err == nil {
				at.WriteTo(answer, from)
			}
		}
	}()
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", at.LocalAddr().String())
	}}
}

// receiver counts what comes.
func receiver(t *testing.T, do http.HandlerFunc) (*httptest.Server, *atomic.Int64) {
	var came atomic.Int64
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		came.Add(1)
		w.Header().Set("Connection", "close")
		do(w, r)
	}))
	all, err := net.Listen("tcp", "0.0.0.0:0")
	require.NoError(t, err)
	s.Listener.Close()
	s.Listener = all
	s.Start()
	t.Cleanup(s.Close)
	return s, &came
}

func fine(http.ResponseWriter, *http.Request) {}

var message = notice.Message{ID: "1", Headers: map[string]string{}, Body: []byte("{}")}

// A name that answers with an address that may be told, and with one of the inside when it is asked again, is told
// nothing then.
func TestNamesThatChangeTheirAnswer(t *testing.T) {
	to, came := receiver(t, fine)
	port := to.Listener.Addr().(*net.TCPAddr).Port
	s := newSender([]netip.Prefix{netip.MustParsePrefix("127.0.0.2/32")}, names(t, "127.0.0.2", "127.0.0.1"))
	url := fmt.Sprintf("http://build.harbour.example:%d/", port)
	require.True(t, s.post(t.Context(), url, message).taken())
	a := s.post(t.Context(), url, message)
	require.Equal(t, inside, a.trouble)
	require.EqualValues(t, 1, came.Load())
}

func TestAddressesOfTheInsideAreNotTold(t *testing.T) {
	to, came := receiver(t, fine)
	port := to.Listener.Addr().(*net.TCPAddr).Port
	s := newSender(nil, names(t, "127.0.0.1"))
	for _, host := range []string{"127.0.0.1", "localhost", "0.0.0.0", "[::1]", "[::ffff:127.0.0.1]", "127.1", "0x7f.1",
		"2130706433", "build.harbour.example"} {
		a := s.post(t.Context(), fmt.Sprintf("http://%s:%d/", host, port), message)
		require.Contains(t, []trouble{inside, unknownName, unsent}, a.trouble, host)
		require.Zero(t, a.status, host)
	}
	require.Zero(t, came.Load())
}

// A receiver that sends elsewhere is not followed, and one that answers without end is read no further than is shown.
func TestAnswersAreBounded(t *testing.T) {
	hidden, came := receiver(t, fine)
	let := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	s := newSender(let, nil)
	local := func(s *httptest.Server) string {
		return fmt.Sprintf("http://127.0.0.1:%d/", s.Listener.Addr().(*net.TCPAddr).Port)
	}
	leads, _ := receiver(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, local(hidden), http.StatusMovedPermanently)
	})
	a := s.post(t.Context(), local(leads), message)
	require.Equal(t, 301, a.status)
	require.Equal(t, elsewhere, a.trouble)
	require.Zero(t, came.Load())

	endless, _ := receiver(t, func(w http.ResponseWriter, r *http.Request) {
		for line := strings.Repeat("x", 1<<16); r.Context().Err() == nil; {
			if _, err := w.Write([]byte(line)); err != nil {
				return
			}
		}
	})
	began := time.Now()
	a = s.post(t.Context(), local(endless), message)
	require.True(t, a.taken())
	require.Len(t, a.text, answerShown)
	require.Less(t, time.Since(began), answerTime)

	busy, _ := receiver(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Retry-After", "120")
		w.WriteHeader(503)
		w.Write([]byte("n\x00o\xffpe"))
	})
	a = s.post(t.Context(), local(busy), message)
	require.Equal(t, answer{status: 503, trouble: refused, text: "nope", asks: 2 * time.Minute, took: a.took},
		a)
	gone, _ := receiver(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(410) })
	require.True(t, s.post(t.Context(), local(gone), message).gone)

	gone.Close()
	a = s.post(t.Context(), local(gone), message)
	require.Equal(t, nobody, a.trouble)
	require.Equal(t, "nobody listens there", a.trouble.say(a.status, a.text))
}
