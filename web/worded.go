package web

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"strings"
	"sync/atomic"

	"kembrel/api"
)

// worded makes every refusal of a server a problem, also those that Go's server makes before it asks a handler: of what
// is no HTTP, and of an expectation. It returns the listener to serve on. Files still go from disk to socket by the
// system alone, and what a handler sends is never looked at.
func worded(server *http.Server, l net.Listener) net.Listener {
	inner := server.Handler
	server.ConnContext = func(ctx context.Context, conn net.Conn) context.Context {
		return context.WithValue(ctx, connKey{}, conn)
	}
	server.ConnState = func(conn net.Conn, state http.ConnState) {
		if c, ok := conn.(*wordedConn); ok && state == http.StateActive { // a request was read, or part of one
			c.handled.Store(false)
		}
	}
	server.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if c, ok := r.Context().Value(connKey{}).(*wordedConn); ok {
			c.handled.Store(true)
		}
		inner.ServeHTTP(w, r)
	})
	return wordedListener{l}
}

type connKey struct{}

type wordedListener struct{ net.Listener }

// Accept implements net.Listener.
func (l wordedListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if plain, ok := conn.(*net.TCPConn); ok {
		return &wordedConn{TCPConn: plain}, nil
	}
	return conn, err
}

type wordedConn struct {
	*net.TCPConn
	handled atomic.Bool // what is written answers a request that a handler was asked
}

// Write implements net.Conn; the server writes an answer that it makes itself at once.
func (c *wordedConn) Write(p []byte) (int, error) {
	if c.handled.Load() {
		return c.TCPConn.Write(p)
	}
	problem := ofServer(p)
	if problem == nil {
		return c.TCPConn.Write(p)
	}
	if _, err := c.TCPConn.Write(refusal(problem)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// readFailed are the answers of Go's server to what it cannot read: their status and what it says, such as
// "400 Bad Request: missing required Host header".
var readFailed = regexp.MustCompile("^HTTP/1\\.1 (\\d{3})[^\r\n]*\r\nContent-Type: text/plain; charset=utf-8\r\n" +
	"Connection: close\r\n\r\n([^\r\n]*)$")

// ofServer is the problem that stands for an answer of Go's server without a handler; nil for every other answer.
func ofServer(answer []byte) *api.Problem {
	if bytes.HasPrefix(answer, []byte("HTTP/1.1 417 ")) {
		return unexpected()
	}
	found := readFailed.FindSubmatch(answer)
	switch {
	case found == nil:
		return nil
	case string(found[1]) == "431":
		return api.Fail(api.HeadTooLong, "the header fields have more bytes than the %d that are read", longestHead)
	}
	detail := string(found[2])
	if _, said, ok := strings.Cut(detail, ": "); ok {
		detail = said
	}
	if strings.HasPrefix(detail, "400") {
		detail = "its first line or a header field has not the form it must have"
	}
	return api.Fail(api.Malformed, "this cannot be read as HTTP/1.1: %s", detail)
}

func unexpected() *api.Problem {
	return api.Fail(api.Expectation, "nothing but 100-continue can be expected here: leave the header field Expect out")
}

// refusal is a whole answer with a problem, after which the connection is closed.
func refusal(p *api.Problem) []byte {
	content, err := json.Marshal(p)
	if err != nil {
		content = nil // a problem of texts and numbers always can be
	}
	head := fmt.Sprintf("HTTP/1.1 %d %s\r\nContent-Type: %s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n",
		p.Status, http.StatusText(p.Status), p.ContentType(""), len(content))
	return append([]byte(head), content...)
}
