package store

import (
	"encoding/json"

	"kembrel/core/verdict"
)

// Judgement is what is known for judging a run, and what came of it.
type Judgement struct {
	ID        int64
	Project   string
	Number    int
	Objective verdict.Objective
	State     string
	Rule      json.RawMessage // in force; nil or {}: none
	Own       bool            // the rule is the run's own
	Verdict   json.RawMessage
	Dispute   json.RawMessage
	Stopped   json.RawMessage
	BestStep  *int64  // of the best reading whose neighbours on other curves are known
	Epochs    float64 // the hyperparameter, NaN where there is none
}
