package store

import (
	"encoding/json"
	"time"
)

// Dataset is a row of datasets with its latest snapshot; Number 0: none yet.
type Dataset struct {
	ID        int64
	Name      string
	Title     string
	Who       string
	Created   time.Time
	Snapshots int
	Number    int
	Items     int64
	Bytes     int64
	Latest    *time.Time
	Answers   json.RawMessage
}

// Snapshot is a row of snapshots.
type Snapshot struct {
	ID      int64
	Dataset string
	Number  int
	Digest  []byte
	Items   int64
	Bytes   int64
	Kept    int64
	Columns json.RawMessage
	Rows    bool
	Source  json.RawMessage
	Base    *int
	Who     string
	Created time.Time
	Size    int64
	Chunks  []byte
	Answers json.RawMessage
	Marks   []byte
	Failed  string
}

// NewSnapshot is what a snapshot is made of.
type NewSnapshot struct {
	Dataset int64
	Person  int64
	Digest  []byte
	Items   int64
	Bytes   int64
	Kept    int64
	Columns json.RawMessage
	Rows    bool
	Source  json.RawMessage
	Base    *int
	Size    int64
	File    []byte
	Chunks  []byte
	Splits  []SnapshotSplit
}

// SnapshotSplit is a split of a snapshot, with its fingerprints.
type SnapshotSplit struct {
	Name           string
	Items          int64
	Bytes          int64
	Kept           int64
	Keys           []byte
	Digests, Pairs []byte
}

// Draft is a snapshot being made.
type Draft struct {
	ID       string
	Dataset  int64
	Name     string // of the dataset
	Person   int64
	Begun    time.Time
	Columns  json.RawMessage
	Rows     bool
	Source   json.RawMessage
	Base     *int
	Sets     json.RawMessage // what a change sets; null: it is none
	Snapshot *int64
	Blocks   int
	Items    int64
}

// DraftBlock is a block of items, which is a chunk.
type DraftBlock struct {
	Number int
	Digest []byte
	Items  int
}

// SplitAt is a split of a snapshot.
type SplitAt struct {
	Snapshot int64
	Dataset  string
	Number   int
	Split    string
	Items    int64
}

// RunData is what a run used for something.
type RunData struct {
	Run      int64
	Use      string
	Snapshot *int64
	Split    string
	Items    int64
	Asked    string
	Address  string
	At       time.Time
}

// DataUser is a run that used a snapshot, as it is listed there.
type DataUser struct {
	Project string
	Number  int
	Title   string
	Use     string
	Split   string
	Who     string
	Started time.Time
	State   string
}

// TestLook is what a run's curve on a test split came to.
type TestLook struct {
	Project string
	Run     int64
	Number  int
	Who     string
	Split   string
	Curve   string
	Looks   int64 // readings
	Last    float64
	Lowest  float64
	Highest float64
	First   time.Time
	Latest  time.Time
}

// SnapshotAt names a snapshot.
type SnapshotAt struct {
	ID     int64
	Number int
}
