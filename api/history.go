package api

import (
	"encoding/json"
	"time"
)

// HistoryInput asks for the history of runs as a file.
type HistoryInput struct {
	ProjectInput
	Format string   `query:"format" enum:"csv,csv-long,json,jsonl,parquet" default:"csv" doc:"csv: a row per point and a column per curve; the others: a row per reading (docs/history.md)"`
	What   string   `query:"what" enum:"curves,runs" default:"curves" doc:"The readings, or a row per run with its hyperparameters and figures"`
	Runs   []int    `query:"runs" maxItems:"10000" doc:"Numbers of runs; absent: those chosen by the filter, or all of the project"`
	Names  []string `query:"names" maxItems:"5000" doc:"Only these curves"`
	RunChoice
	Columns string `query:"columns" maxLength:"8000" doc:"Of a table of runs: only these values, as in the list of runs"`
}

// NewHistory is a run that was trained elsewhere, brought in whole. It is kept whole or not at all; with the same
// idempotency key it is kept once.
type NewHistory struct {
	ProjectInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Title   string                     `json:"title,omitempty" maxLength:"200"`
		Source  string                     `json:"source" maxLength:"1000" doc:"Where it came from, such as the file's name; kept as a note"`
		Started time.Time                  `json:"started"`
		Ended   time.Time                  `json:"ended"`
		Hyper   map[string]json.RawMessage `json:"hyper,omitempty" maxProperties:"2000"`
		Axis    Axis                       `json:"axis"`
		Curves  []Column                   `json:"curves" maxItems:"5000"`
	}
}

// The operations on histories.
var (
	GetHistory = declare[HistoryInput, None](Spec{ID: "history", Method: "GET", Path: "/projects/{project}/history",
		Summary: "Read the history of runs as CSV, JSON, JSON Lines or Parquet", Access: Reader, Status: 200,
		Media: append([]string{"application/json"}, tables...)})
	AddHistory = declare[NewHistory, Run](Spec{ID: "add-history", Method: "POST", Path: "/projects/{project}/history",
		Summary: "Bring in a run that was trained elsewhere, as JSON or CBOR", Access: Recorder, MaxBody: 32 << 20,
		OwnCheck: true, Binary: true})
)
