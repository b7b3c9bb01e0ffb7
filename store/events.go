package store

import (
	"strconv"
	"time"
)

// Event is a change of state. Project, Run and Person are ids, 0 where none is meant.
type Event struct {
	Kind                 string
	Project, Run, Person int64
	What                 string
}

// Told is an event as the live stream tells it. Mark stands for its place in the order.
type Told struct {
	Xact    string
	ID      int64
	Kind    string
	Project string
	Run     int
	What    string
	Who     string
	At      time.Time
}

// Mark is the event's place, for EventsAfter.
func (t Told) Mark() string { return t.Xact + "-" + strconv.FormatInt(t.ID, 10) }

// RunName is a run's address.
type RunName struct {
	ID      int64
	Project string
	Number  int
}
