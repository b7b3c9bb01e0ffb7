package store

import (
	"encoding/json"
	"time"
)

// Entering is a rule by which runs enter a model.
type Entering struct {
	ID         int64
	Model      int64
	ModelName  string
	Project    string
	ProjectID  int64
	Number     int
	Filter     string
	Checkpoint string
	Margin     *float64
	Ask        string
	Each       bool
	Person     int64 // in whose name
	Who        string
	Created    time.Time
	Event      int64      // runs were looked at after it
	Heard      *time.Time // when something had last happened in the project; nil: nothing since the rule was made
	Trouble    string
	Latest     int64 // event of the project behind those looked at; 0: none
	Newest     int64 // event of all
}

// EnteringRun is what a rule made of a run.
type EnteringRun struct {
	Entering int64
	Run      int // its number in the model's project
	Ended    time.Time
	Fate     string
	Said     json.RawMessage
}
