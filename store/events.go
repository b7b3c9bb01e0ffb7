package store

import (
	"encoding/json"
	"strconv"
	"time"
)

// Event is a change of state: of what kind of thing, what was done (a verb) to which (the subject, an address or a
// name), by whom and from where. Project, Run and Person are ids, 0 where none is meant. Data is what more there is to
// know, of simple values.
type Event struct {
	Kind, Verb, Subject  string
	Project, Run, Person int64
	Data                 map[string]any
	Place                string // address of the caller
}

// Told is an event as it is read again.
type Told struct {
	Xact    string
	ID      int64
	Kind    string
	Verb    string
	Subject string
	Project string
	Run     int
	Data    json.RawMessage
	Who     string
	Place   string
	At      time.Time
}

// Mark is the event's place, for EventsAfter.
func (t Told) Mark() string { return t.Xact + "-" + strconv.FormatInt(t.ID, 10) }

// AuditQuery asks for events, the latest first; what is empty is not asked for.
type AuditQuery struct {
	Project, Who, Kind, Verb, Subject string
	Since, Until                      *time.Time
	Before                            int64 // id; 0: from the end
	Limit                             int
}

// Chained is an event with its digest in the chain.
type Chained struct {
	Seq    int64
	Event  int64
	Digest []byte
	Text   string // the event as the digest is made of it
	Gone   bool   // the event is not there
}

// RunName is a run's address.
type RunName struct {
	ID      int64
	Project string
	Number  int
}
