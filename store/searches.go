package store

import (
	"encoding/json"
	"time"
)

// Search is a row of searches.
type Search struct {
	Number          int
	Project         int64
	Title, Strategy string
	Space           string
	Seed            int64
	Budget          int
	Command         json.RawMessage
	Who             string
	Started         time.Time
	Archived        *time.Time
}

// NewSearch is what a search is made of.
type NewSearch struct {
	Project, Person        int64
	Key                    string
	Title, Strategy, Space string
	Seed                   int64
	Budget                 int
	Command                []string
}

// SearchSum is how far a search is, by the newest run of each trial.
type SearchSum struct {
	Search                               int
	Started, Done, Running, Failed, Lost int
	BestRun, BestTrial                   *int
	Best                                 *float64
}

// Trial is the newest run of a trial.
type Trial struct {
	Search, Trial, Number int
	State                 string
	Best                  *float64
	Started               time.Time
	Ended                 *time.Time
	Took                  float64
	Done                  bool // it ended by itself or by a rule
}
