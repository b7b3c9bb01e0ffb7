package client

import (
	"errors"
	"fmt"
	"io"
	"net"
	"syscall"
)

// away says that the service could not be reached, and why. It wraps ErrAway and the cause.
type away struct {
	url   string
	cause error
}

func (e away) Error() string { return fmt.Sprintf("%v at %s: %s", ErrAway, e.url, sayCause(e.cause)) }

func (e away) Unwrap() []error { return []error{ErrAway, e.cause} }

// sayCause says in a few words why a connection failed. What it does not know, such as a certificate that is not valid,
// is said by the library.
func sayCause(err error) string {
	var name *net.DNSError
	is := func(causes ...error) bool {
		for _, c := range causes {
			if errors.Is(err, c) {
				return true
			}
		}
		return false
	}
	switch {
	case errors.As(err, &name):
		return "no address is known for " + name.Name
	case is(syscall.ECONNREFUSED):
		return "connection refused"
	case is(syscall.ENETUNREACH, syscall.EHOSTUNREACH):
		return "the network does not lead there"
	case is(net.ErrClosed, syscall.EPIPE, syscall.ECONNRESET, io.EOF, io.ErrUnexpectedEOF):
		return "the connection was lost"
	}
	return err.Error()
}
