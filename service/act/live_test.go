package act

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/store"
)

// told is a storage with events behind a mark.
type told struct {
	Storage
	events []store.Told
}

func (s *told) EventsAfter(context.Context, string) ([]store.Told, error) {
	events := s.events
	s.events = nil
	return events, nil
}

// When rights change, at whatever replica, what is remembered of them is forgotten before those who listen are cut off:
// they come back at once, and must not be taken for what they were.
func TestRightsThatChangeAreForgotten(t *testing.T) {
	for name, c := range map[string]struct {
		event  store.Told
		change bool
	}{
		"a role":              {store.Told{Kind: "role", Verb: "given"}, true},
		"a team":              {store.Told{Kind: "team", Verb: "set"}, true},
		"a person closed":     {store.Told{Kind: "person", Verb: "closed"}, true},
		"a project closed":    {store.Told{Kind: "project", Verb: "changed", Data: json.RawMessage(`{"open": false}`)}, true},
		"a project renamed":   {store.Told{Kind: "project", Verb: "changed", Data: json.RawMessage(`{"title": "x"}`)}, false},
		"a token of somebody": {store.Told{Kind: "person", Verb: "token-created"}, false},
		"a run":               {store.Told{Kind: "run", Verb: "started"}, false},
	} {
		a := New(&told{events: []store.Told{c.event}}, nil)
		sub := &subscriber{in: make(chan Told, 4), end: make(chan struct{})}
		a.Live.subscribers[sub] = true
		forgot := false
		a.WhenRightsChange(func() {
			forgot = true
			select {
			case <-sub.end:
				t.Error(name, "was cut off before")
			default:
			}
		})
		a.places.Put("vessels", knownPlace{})
		a.Live.passEvents(context.Background(), "1-0")
		require.Equal(t, c.change, forgot, name)
		_, remembered := a.places.Get("vessels")
		require.Equal(t, !c.change, remembered, name)
		_, listens := a.Live.subscribers[sub]
		require.Equal(t, !c.change, listens, name)
	}
}
