package web

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"strings"

	"kembrel/api"
)

// worded is a listener on whose connections every refusal is a problem, also those that Go's server makes before it
// asks a handler: of what is no HTTP, and of an expectation. Files still go from disk to socket by the system alone.
type worded struct{ net.Listener }

// Accept implements net.Listener.
func (l worded) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if plain, ok := conn.(*net.TCPConn); ok {
		return wordedConn{plain}, nil
	}
	return conn, err
}

type wordedConn struct{ *net.TCPConn }

// Write implements net.Conn; the server writes an answer that it makes itself at once.
func (c wordedConn) Write(p []byte) (int, error) {
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
// "400 Bad Request: missing required Host header". Ours have a date and a length.
var readFailed = regexp.MustCompile("^HTTP/1\\.1 (\\d{3})[^\r\n]*\r\nContent-Type: text/plain; charset=utf-8\r\n" +
	"Connection: close\r\n\r\n([^\r\n]*)$")

// ofServer is the problem that stands for an answer of Go's server without a handler; nil for every other answer.
func ofServer(answer []byte) *api.Problem {
	if !bytes.HasPrefix(answer, []byte("HTTP/1.1 4")) && !bytes.HasPrefix(answer, []byte("HTTP/1.1 5")) {
		return nil
	}
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
