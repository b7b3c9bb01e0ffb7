package store

import (
	"encoding/json"
	"time"
)

// Sheet is a row of prediction sheets.
type Sheet struct {
	Run           int64
	ID            int64
	Number        int
	Key           string
	Leg           int
	Step          int64
	Epoch         float64
	Split         string
	Task          string
	Classes       json.RawMessage
	Probabilities *bool
	Examples      int64
	Labelled      int64
	Figures       json.RawMessage
	Assessed      json.RawMessage
	Alarms        json.RawMessage
	Held          []string
	Compared      bool
	Data          string
	Evaluation    *int // number of the evaluation that it is of; nil: the training handed it over
	Source        string
	Size          int64
	Who           string
	Created       time.Time
}

// NewSheet is what a prediction sheet is made of.
type NewSheet struct {
	Sheet
	Person       int64
	EvaluationID int64 // of the evaluation that it is of; 0: none
	Files        []SheetFile
}

// Series asks for the sheets that are like this one: of the same split and the same data, by the training or by
// evaluations, the latest step first.
func (s Sheet) Series(limit int) SheetQuery {
	return SheetQuery{Run: s.Run, Split: s.Split, Like: &s, Last: true, Limit: limit}
}

// SheetFile is a file of a prediction sheet.
type SheetFile struct {
	Name   string
	Size   int64
	Chunks []byte
}

// SheetQuery asks for prediction sheets of a run.
type SheetQuery struct {
	Run    int64
	Split  string // "": all
	Below  int    // only of lower numbers; 0: all
	Number int    // only this; 0: all
	Like   *Sheet // only those of the same data, by the training or by evaluations; nil: all
	Last   bool   // only those that no later leg replaced, by step
	At     *int64 // only of this step; nil: all
	Limit  int
}

// Uncompared is a sheet whose figures were not held against the curves of its run yet.
type Uncompared struct {
	Run, ID int64
}

// Mark is what a person says of the label of an example.
type Mark struct {
	Key    string
	Mark   string // right, wrong, unclear
	Label  string // what a wrong one should be; "": it was not said
	Was    string // the label that was looked at
	Who    string
	Person int64
	At     time.Time
}

// NamesFile is a file in which a run may have saved the names of its classes.
type NamesFile struct {
	Path   string
	Size   int64
	Chunks []byte
}
