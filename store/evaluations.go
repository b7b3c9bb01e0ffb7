package store

import (
	"encoding/json"
	"time"
)

// Evaluation is what a program found of a checkpoint on some data.
type Evaluation struct {
	Run        int64
	ID         int64
	Number     int
	Key        string
	Checkpoint int64
	Leg        int     // of the checkpoint
	Step       int64   // of the checkpoint
	Epoch      float64 // of the checkpoint
	Data       string
	Split      string
	Snapshot   *int64
	Figures    json.RawMessage
	Measures   json.RawMessage
	Verified   json.RawMessage
	Command    json.RawMessage
	Notes      json.RawMessage
	Host       string
	Who        string
	Started    *time.Time
	Ended      time.Time
}

// EvaluationQuery asks for evaluations of a run, the latest first.
type EvaluationQuery struct {
	Run        int64
	Checkpoint int64  // 0: of all
	On         string // data or, where none was named, split; "": all
	Below      int    // only of lower numbers; 0: all
	Number     int    // only this; 0: all
	Verified   bool   // only those that were compared with what was recorded
	Limit      int
}

// LatestEvaluation is what the latest evaluation of a run on some data measured.
type LatestEvaluation struct {
	Run      int64
	On       string // data or, where none was named, split
	Measures json.RawMessage
	Alarmed  bool
}

// EvaluatedSheet is a prediction sheet of an evaluation.
type EvaluatedSheet struct {
	Evaluation int64
	Number     int
	Split      string
	Examples   int64
	Figures    json.RawMessage
	Alarms     json.RawMessage
}
