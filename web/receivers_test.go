package web_test

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/service"
	"kembrel/service/subscriptions"
	"kembrel/store"
)

// told is a service that may tell receivers on loopback, whose clock tests move.
func told(t testing.TB) (*served, *atomic.Int64) {
	var ahead atomic.Int64
	s := serveAs(t, service.Options{LostAfter: time.Hour, Telling: subscriptions.Options{
		Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")},
		Clock:   func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }}})
	s.project(t)
	return s, &ahead
}

// hall is a receiver that takes what its library of the signature's scheme verifies.
type hall struct {
	*httptest.Server
	t      testing.TB
	secret atomic.Pointer[string]
	answer func(e *cloudevents.Event) int // nil: it takes all

	mutex  sync.Mutex
	events []*cloudevents.Event
	wrong  []string
}

func newHall(t testing.TB, answer func(e *cloudevents.Event) int) *hall {
	h := &hall{t: t, answer: answer}
	h.Server = httptest.NewServer(h)
	t.Cleanup(h.Close)
	return h
}

func (h *hall) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err == nil && h.secret.Load() != nil {
		var hook *standardwebhooks.Webhook
		if hook, err = standardwebhooks.NewWebhook(*h.secret.Load()); err == nil {
			err = hook.VerifyIgnoringTimestamp(body, r.Header)
		}
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	var e *cloudevents.Event
	if err == nil {
		e, err = cehttp.NewEventFromHTTPRequest(r)
	}
	if err == nil {
		err = e.Validate()
	}
	status := 204
	if err == nil && h.answer != nil {
		status = h.answer(e)
	}
	h.mutex.Lock()
	defer h.mutex.Unlock()
	switch {
	case err != nil:
		h.wrong, status = append(h.wrong, err.Error()), 400
	case status < 300:
		h.events = append(h.events, e)
	}
	w.WriteHeader(status)
}

// heard are the events that were taken, by type and subject.
func (h *hall) heard() (out []string) {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	require.Empty(h.t, h.wrong)
	for _, e := range h.events {
		out = append(out, e.Type()[len("internal.kembrel."):]+" "+e.Subject())
	}
	return out
}

// all are the events that were taken.
func (h *hall) all() []*cloudevents.Event {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	return slices.Clone(h.events)
}

func (h *hall) wait(n int) []string {
	h.t.Helper()
	require.Eventually(h.t, func() bool { return len(h.heard()) >= n }, 30*time.Second, 10*time.Millisecond)
	return h.heard()
}

func (s *served) subscribe(t testing.TB, name, url string, more ...func(*api.NewSubscription)) *api.Subscription {
	t.Helper()
	in := &api.NewSubscription{ProjectInput: vessels}
	in.Body.Name, in.Body.URL = name, url
	for _, do := range more {
		do(in)
	}
	return call(t, s, api.CreateSubscription, in)
}

func subscription(name string) api.SubscriptionInput {
	return api.SubscriptionInput{ProjectInput: vessels, Subscription: name}
}

// machine makes a machine that may report in vessels.
func (s *served) machine(t testing.TB, name string) {
	in := &api.NewPerson{}
	in.Body.Name, in.Body.Machine = name, true
	call(t, s, api.AddPerson, in)
	call(t, s, api.SetProjectRole, &api.ProjectRoleInput{ProjectInput: vessels,
		Body: api.RoleEdit{Person: name, Role: "recorder"}})
}

// emit writes events of a subject.
func (s *served) emit(t testing.TB, verb string, subjects ...string) {
	t.Helper()
	p, err := s.db.ProjectByKey(ctx, "vessels")
	require.NoError(t, err)
	for _, subject := range subjects {
		require.NoError(t, s.db.AddEvent(ctx, store.Event{Kind: "dataset", Verb: verb, Subject: subject,
			Project: p.ID}))
	}
	s.service.Live.News()
}
