package store

import "time"

// Subscription is an address that is told of a project's events.
type Subscription struct {
	ID          int64
	Project     string
	ProjectID   int64
	Name        string
	URL         string
	Kinds       []string
	Subject     string
	Filter      string
	Binary      bool
	Machine     *int64
	MachineName string
	Who         string
	Created     time.Time
	Paused      *time.Time
	WhyPaused   string
	Mark        string // told of all up to there
	Fails       int    // in a row
	Waiting     int64
	Parked      int64
	Delivered   *time.Time // the latest
}

// SubscriptionKeys are what a subscription signs with. They are not shown.
type SubscriptionKeys struct {
	Secret []byte
	Before []byte // nil: there is none that still counts
	Report []byte
}

// SubscriptionChange changes what is given.
type SubscriptionChange struct {
	URL, Subject, Filter *string
	Kinds                []string // nil: they stay
	Binary               *bool
	Machine              *int64 // 0: none
}

// Delivery is an event that a subscription was told, or is to be told.
type Delivery struct {
	Event    int64
	Subject  string
	State    string // waiting, delivered, parked
	Attempts int
	First    *time.Time
	Last     *time.Time
	Next     *time.Time
	Status   int
	Trouble  string
	Answer   string
	Took     int // milliseconds
}

// DeliveryOf is a delivery with its event.
type DeliveryOf struct {
	Delivery
	Xact      string
	Kind      string
	Verb      string
	OfProject string
	Run       int
	Data      []byte
	Who       string
	Place     string
	At        time.Time
}

// Told is the event.
func (d DeliveryOf) Told() Told {
	return Told{Xact: d.Xact, ID: d.Event, Kind: d.Kind, Verb: d.Verb, Subject: d.Subject, Project: d.OfProject,
		Run: d.Run, Data: d.Data, Who: d.Who, Place: d.Place, At: d.At}
}

// Reporter is who may report back on an event.
type Reporter struct {
	Key     []byte
	Machine int64
	Name    string
	Closed  *time.Time
	Project string
	Kind    string
	Subject string
	At      time.Time
}
