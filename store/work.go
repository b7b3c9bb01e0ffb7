package store

import (
	"encoding/json"
	"time"
)

// Work is a row of work: something that a request began and that is done whether or not anybody waits for it.
type Work struct {
	Key      string // a UUID: the same request sent again is the same work
	Kind     string
	Run      *int64
	Person   int64
	Who      string // the person's name
	Request  json.RawMessage
	Progress float64 // 0 to 1
	Tries    int
	Problem  json.RawMessage // null: none
	Result   json.RawMessage // null: none yet
	Created  time.Time
	Ended    *time.Time
}
