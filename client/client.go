// Package client calls the API by the declarations in package api: path, query, headers and body are filled from the
// input's tags by one generic function. It imports api only.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"kembrel/api"
)

// Client calls one service as one person.
type Client struct {
	URL   string // http://127.0.0.1:7420
	Token string
	HTTP  *http.Client
}

// New makes a client. Its calls have no time limit of their own; give them one by their context.
func New(address, token string) *Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.MaxIdleConnsPerHost = 8
	transport.ResponseHeaderTimeout = 60 * time.Second
	transport.DisableCompression = local(address) // nothing is gained on the way to this machine itself
	return &Client{URL: strings.TrimRight(address, "/"), Token: token, HTTP: &http.Client{Transport: transport}}
}

// local reports whether an address is of this machine.
func local(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	ip, err := netip.ParseAddr(u.Hostname())
	return u.Hostname() == "localhost" || err == nil && ip.IsLoopback()
}

// ErrAway is wrapped by errors of a service that does not answer.
var ErrAway = errors.New("the service does not answer")

// late says that the service had not answered when the time for it was over. It wraps ErrAway and
// context.DeadlineExceeded.
type late struct{ url string }

func (e late) Error() string { return "the service at " + e.url + " did not answer in time" }

func (e late) Unwrap() []error { return []error{ErrAway, context.DeadlineExceeded} }

// orLate puts words in the place of a deadline that has passed; people read them.
func (c *Client) orLate(ctx context.Context, err error) error {
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return late{c.URL}
	}
	return err
}

// Call calls an operation. An answer that is a problem comes back as *api.Problem.
func Call[I, O any](ctx context.Context, c *Client, op api.Operation[I, O], in *I) (*O, error) {
	response, err := c.send(ctx, op.Spec, in)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	out := new(O)
	if _, none := any(out).(*api.None); none || response.StatusCode == http.StatusNoContent {
		io.Copy(io.Discard, response.Body)
		return out, nil
	}
	if err := decode(response, out); err != nil {
		return nil, c.unreadable(ctx, op.ID, response, err)
	}
	return out, nil
}

// unreadable says in a sentence why an answer cannot be read: it did not come whole, or it is of another version.
func (c *Client) unreadable(ctx context.Context, what string, response *http.Response, err error) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch l := level(response); {
	case ctx.Err() != nil:
		return c.orLate(ctx, ctx.Err())
	case errors.As(err, &kind), errors.As(err, &syntax), errors.Is(err, api.ErrCBOR):
		switch {
		case l > api.Level:
			return fmt.Errorf("the service at %s is %s, newer than this kembrel, which cannot read its answer: update this kembrel",
				c.URL, version(response))
		case l < api.Level:
			return fmt.Errorf("the service at %s is %s, older than this kembrel, which cannot read its answer: update the service",
				c.URL, version(response))
		}
		return fmt.Errorf("the answer of %s to %q cannot be read; is it a Kembrel service?", c.URL, what)
	}
	return fmt.Errorf("%w at %s: its answer broke off", ErrAway, c.URL)
}

// level is what a service can say and understand; one of before levels says none.
func level(response *http.Response) int {
	n, err := strconv.Atoi(response.Header.Get(api.LevelHeader))
	if err != nil {
		return 1
	}
	return n
}

func version(response *http.Response) string {
	if v := response.Header.Get(api.VersionHeader); v != "" {
		return "version " + v
	}
	return "of an unknown version"
}

func decode(response *http.Response, into any) error {
	if kind, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type")); kind != api.CBOR {
		return json.NewDecoder(response.Body).Decode(into)
	}
	content, err := io.ReadAll(response.Body)
	if err != nil {
		return err
	}
	return api.UnmarshalCBOR(content, into)
}

// Stream calls an operation whose answer is not JSON; the caller closes it.
func Stream[I any](ctx context.Context, c *Client, op api.Operation[I, api.None], in *I) (io.ReadCloser, error) {
	response, err := c.send(ctx, op.Spec, in)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// All collects the items of every page of a list. next sets the cursor in the input. A service that gives out the same
// cursor again is not asked for ever.
func All[I, T any](ctx context.Context, c *Client, op api.Operation[I, api.Page[T]], in *I,
	next func(in *I, cursor string)) ([]T, error) {
	var out []T
	for last := ""; ; {
		p, err := Call(ctx, c, op, in)
		if err != nil {
			return nil, err
		}
		out = append(out, p.Items...)
		if p.Next == "" {
			return out, nil
		}
		if p.Next == last {
			return nil, fmt.Errorf("the pages of %s lead back to themselves at %.100q", op.ID, last)
		}
		last = p.Next
		next(in, p.Next)
	}
}

// Tries of a request that can be sent again without harm: it only reads, or has an Idempotency-Key. They bridge a
// replica that is being restarted; a service that is away for longer is the caller's to wait for.
const (
	mostTries = 4
	mostPause = 2 * time.Second
)

// again says that a request may be sent again after a while.
type again struct {
	error
	after time.Duration
}

func (e again) Unwrap() error { return e.error }

// send sends a request, again where that does no harm and the service, or a proxy before it, says that it is only away
// for a moment. The body of the answer is the caller's to close.
func (c *Client) send(ctx context.Context, spec api.Spec, in any) (*http.Response, error) {
	r := request{path: spec.Path, query: url.Values{}, header: http.Header{}, binary: spec.Binary}
	if err := r.fill(reflect.ValueOf(in).Elem()); err != nil {
		return nil, fmt.Errorf("call %s: %w", spec.ID, err)
	}
	harmless := spec.Method == http.MethodGet || r.header.Get("Idempotency-Key") != ""
	for try := 1; ; try++ {
		response, err := c.sendOnce(ctx, spec, &r)
		var later again
		if !errors.As(err, &later) {
			return response, err
		}
		if !harmless || try == mostTries {
			return nil, later.error
		}
		select {
		case <-ctx.Done():
			return nil, later.error
		case <-time.After(min(max(later.after, 100*time.Millisecond<<try), mostPause)):
		}
	}
}

func (c *Client) sendOnce(ctx context.Context, spec api.Spec, r *request) (*http.Response, error) {
	address := c.URL + api.Base + r.path
	if len(r.query) > 0 {
		address += "?" + r.query.Encode()
	}
	var body io.Reader
	if r.body != nil {
		body = bytes.NewReader(r.body)
	}
	request, err := http.NewRequestWithContext(ctx, spec.Method, address, body)
	if err != nil {
		return nil, fmt.Errorf("call %s: %w", spec.ID, err)
	}
	request.Header = r.header
	if r.body != nil && r.header.Get("Content-Type") == "" {
		request.Header.Set("Content-Type", "application/json")
	}
	if spec.Binary {
		request.Header.Set("Accept", api.CBOR)
	}
	request.Header.Set(api.LevelHeader, strconv.Itoa(api.Level))
	request.Header.Set(api.TimeHeader, strconv.FormatInt(time.Now().UnixMilli(), 10))
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	response, err := c.HTTP.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, c.orLate(ctx, ctx.Err())
		}
		var outer *url.Error
		if errors.As(err, &outer) {
			err = outer.Err // without the address, which is said already
		}
		if slow, ok := err.(interface{ Timeout() bool }); ok && slow.Timeout() {
			return nil, late{c.URL}
		}
		err = away{c.URL, err}
		if errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) { // it took the request, and went
			err = again{error: err}
		}
		return nil, err
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	content, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	problem := &api.Problem{}
	kind, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type"))
	if kind != "application/problem+json" || json.Unmarshal(content, problem) != nil {
		problem = api.Fail(api.KindOfStatus(response.StatusCode), "%s answered %s; is it a Kembrel service?",
			c.URL, response.Status)
		if slices.Contains([]int{http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout},
			response.StatusCode) {
			problem = api.Fail(api.Unavailable, "%s answered %s: the service behind it cannot be reached now", c.URL,
				response.Status)
			return nil, again{error: problem, after: retryAfter(response)}
		}
	}
	if problem.Kind() == api.Unavailable && response.Header.Get("Retry-After") != "" {
		return nil, again{error: problem, after: retryAfter(response)}
	}
	if problem.Kind() == api.SignedOut && c.Token == "" && c.HTTP.Jar == nil {
		problem.Detail = fmt.Sprintf("nobody is signed in to %s here: kembrel sign-in --name YOU --url %[1]s, or with the link that you were given; programs have a token (KEMBREL_TOKEN)",
			c.URL)
	}
	if level(response) < api.Level && slices.Contains([]int{400, 404, 405, 415, 422}, problem.Status) {
		problem.Detail += fmt.Sprintf(" (the service at %s is %s, older than this kembrel, and may not know what is asked of it: update it)", c.URL, version(response))
	}
	return nil, problem
}

// retryAfter is how long the service asks to wait; 0: it does not say.
func retryAfter(response *http.Response) time.Duration {
	seconds, err := strconv.Atoi(response.Header.Get("Retry-After"))
	if err != nil || seconds < 0 {
		return 0
	}
	return time.Duration(seconds) * time.Second
}

type request struct {
	path   string
	query  url.Values
	header http.Header
	body   []byte
	binary bool
}

// fill places the fields of an input by their tags; embedded structs count as their fields.
func (r *request) fill(v reflect.Value) error {
	for i := range v.NumField() {
		field, value := v.Type().Field(i), v.Field(i)
		switch {
		case field.Anonymous:
			if err := r.fill(value); err != nil {
				return err
			}
		case field.Name == "Body":
			if r.binary {
				var body bytes.Buffer
				if err := api.Format.Marshal(&body, value.Interface()); err != nil {
					return err
				}
				r.body = body.Bytes()
				r.header.Set("Content-Type", api.CBOR)
				continue
			}
			body, err := json.Marshal(value.Interface())
			if err != nil {
				return err
			}
			r.body = body
		case field.Name == "RawBody":
			r.body = value.Bytes()
			r.header.Set("Content-Type", field.Tag.Get("contentType"))
		case field.Tag.Get("path") != "":
			r.path = strings.Replace(r.path, "{"+field.Tag.Get("path")+"}",
				url.PathEscape(fmt.Sprint(value.Interface())), 1)
		case value.IsZero():
		case field.Tag.Get("query") != "":
			text := fmt.Sprint(value.Interface())
			if at, ok := value.Interface().(time.Time); ok {
				text = at.UTC().Format(time.RFC3339Nano)
			}
			if value.Kind() == reflect.Slice {
				parts := make([]string, value.Len())
				for k := range parts {
					parts[k] = fmt.Sprint(value.Index(k).Interface())
				}
				text = strings.Join(parts, ",")
			}
			r.query.Set(field.Tag.Get("query"), text)
		case field.Tag.Get("header") != "":
			r.header.Set(field.Tag.Get("header"), fmt.Sprint(value.Interface()))
		}
	}
	return nil
}
