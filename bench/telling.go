package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/store"
)

// tellingRows measure how long it takes until receivers hear of an event, while some are slow and some are not there.
func (w *world) tellingRows() []row {
	tell := func() (float64, error) { return w.tell(10_000, 100, 50) }
	return []row{{what: "10000 events, 100 a second, to 50 receivers, 2 of them slow and 3 dead: 95th percentile of the others",
		reference: "(itself)", unit: "s", want: "2", rounds: 1, theirs: tell,
		ours: tell}}
}

// tell has events told to receivers, of which a tenth is no good, and returns the 95th percentile of the times from
// when an event was written until the others had it. Every one of them has to have all.
func (w *world) tell(events, pace, receivers int) (float64, error) {
	ctx := context.Background()
	kind := "bench-" + string(rune('a'+time.Now().Second()%26))
	var mutex sync.Mutex
	written := map[string]time.Time{}
	var took []float64
	came := make([]map[string]bool, receivers)
	heard := func(k int) http.HandlerFunc {
		return func(rw http.ResponseWriter, r *http.Request) {
			io.Copy(io.Discard, r.Body)
			now := time.Now()
			mutex.Lock()
			defer mutex.Unlock()
			id := r.Header.Get("ce-subject")
			if !came[k][id] {
				came[k][id] = true
				took = append(took, now.Sub(written[id]).Seconds())
			}
		}
	}
	for k := range receivers {
		came[k] = map[string]bool{}
		at := ""
		switch {
		case k < 2:
			slow := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
				select {
				case <-r.Context().Done():
				case <-time.After(9 * time.Second):
				}
			}))
			defer slow.CloseClientConnections()
			at = slow.URL
		case k < 5:
			dead, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return 0, err
			}
			at = "http://" + dead.Addr().String()
			dead.Close()
		default:
			good := httptest.NewServer(heard(k))
			defer good.Close()
			at = good.URL
		}
		in := &api.NewSubscription{ProjectInput: api.ProjectInput{Project: "vessels"}}
		in.Body.Name, in.Body.URL, in.Body.Kinds, in.Body.Mode = "told-"+uuid.NewString()[:8], at,
			[]string{kind + ".*"},
			"binary"
		if _, err := client.Call(ctx, w.client, api.CreateSubscription, in); err != nil {
			return 0, err
		}
		defer client.Call(ctx, w.client, api.DeleteSubscription,
			&api.SubscriptionInput{ProjectInput: in.ProjectInput, Subscription: in.Body.Name})
	}
	ticker := time.NewTicker(time.Second / time.Duration(pace))
	defer ticker.Stop()
	for i := range events {
		<-ticker.C
		subject := fmt.Sprint("s", i)
		mutex.Lock()
		written[subject] = time.Now()
		mutex.Unlock()
		if err := w.db.AddEvent(ctx, store.Event{Kind: kind, Verb: "told", Subject: subject,
			Project: w.project}); err != nil {
			return 0, err
		}
		w.service.Live.News()
	}
	good := receivers - 5
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		mutex.Lock()
		n := len(took)
		mutex.Unlock()
		if n == good*events {
			break
		}
		if time.Now().After(deadline) {
			return 0, fmt.Errorf("%d of %d deliveries came", n, good*events)
		}
	}
	mutex.Lock()
	defer mutex.Unlock()
	if len(took) == 0 {
		return 0, errors.New("nothing came")
	}
	slices.Sort(took)
	return took[len(took)*95/100], nil
}
