package subscriptions

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"kembrel/core/notice"
)

const (
	answerTime  = 10 * time.Second // a receiver has for its answer
	answerShown = 2000             // bytes
)

// sender posts messages. It connects to no address of the inside, whatever a name resolves to at the moment, follows
// nobody elsewhere, and reads no more of an answer than is shown.
type sender struct{ client http.Client }

func newSender(allowed []netip.Prefix, resolver *net.Resolver) *sender {
	dialer := &net.Dialer{Timeout: answerTime, Resolver: resolver, Control: func(_, address string,
		_ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address) // resolved
		if err != nil {
			return err
		}
		return notice.Reachable(at.Addr(), allowed)
	}}
	return &sender{http.Client{
		Timeout:       answerTime,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: answerTime,
			ResponseHeaderTimeout: answerTime, MaxResponseHeaderBytes: 32 << 10, MaxIdleConnsPerHost: mostAtOnce,
			MaxConnsPerHost: 4 * mostAtOnce, IdleConnTimeout: time.Minute, DisableCompression: true,
			ForceAttemptHTTP2: true},
	}}
}

// answer is what came of a message.
type answer struct {
	status  int     // 0: nothing was answered
	trouble trouble // none: it was taken
	text    string  // how it begins; where nothing was answered, what went wrong
	took    time.Duration
	asks    time.Duration // the receiver asks to be left alone for so long
	gone    bool          // it wants no more at all
}

func (a answer) taken() bool { return a.trouble == none }

// post sends a message once.
func (s *sender) post(ctx context.Context, to string, m notice.Message) (a answer) {
	began := time.Now()
	defer func() { a.took = time.Since(began) }()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(m.Body))
	if err != nil {
		return answer{trouble: unsent, text: err.Error()}
	}
	for name, value := range m.Headers {
		r.Header.Set(name, value)
	}
	r.Header.Set("User-Agent", "kembrel")
	got, err := s.client.Do(r)
	if err != nil {
		return unanswered(err)
	}
	defer got.Body.Close()
	text, err := io.ReadAll(io.LimitReader(got.Body, answerShown))
	a.status, a.text = got.StatusCode, strings.ToValidUTF8(strings.ReplaceAll(string(text), "\x00", ""), "")
	switch {
	case got.StatusCode >= 200 && got.StatusCode < 300:
		if err != nil {
			a.trouble = cutOff
		}
	case got.StatusCode >= 300 && got.StatusCode < 400:
		a.trouble = elsewhere
	default:
		a.trouble = refused
		a.gone = got.StatusCode == http.StatusGone
		a.asks = retryAfter(got.Header.Get("Retry-After"))
	}
	return a
}

// retryAfter reads a Retry-After header (RFC 9110, section 10.2.3).
func retryAfter(text string) time.Duration {
	if n, err := strconv.Atoi(text); err == nil && n > 0 && n < 1e6 {
		return time.Duration(n) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at))
	}
	return 0
}

// unanswered tells why nothing was answered.
func unanswered(err error) answer {
	var asked *url.Error
	if errors.As(err, &asked) {
		err = asked.Err // without the address
	}
	var unknown *net.DNSError
	timeout, slow := errors.AsType[interface {
		error
		Timeout() bool
	}](err)
	switch {
	case errors.Is(err, notice.ErrInside):
		return answer{trouble: inside}
	case errors.As(err, &unknown):
		return answer{trouble: unknownName}
	case errors.Is(err, syscall.ECONNREFUSED):
		return answer{trouble: nobody}
	case errors.Is(err, context.DeadlineExceeded) || slow && timeout.Timeout():
		return answer{trouble: tooSlow}
	}
	return answer{trouble: unsent, text: fmt.Sprintf("%.300s", err)}
}
