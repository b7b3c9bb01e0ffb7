package store

import "time"

// LineageKey names a thing that has an origin: a snapshot by ID alone, a run by Run alone, a checkpoint or an
// evaluation
// of a run by both.
type LineageKey struct {
	Kind string // snapshot, run, checkpoint, evaluation
	Run  int64
	ID   int64
}

// LineageLink leads from one thing to one that was made with it. FromKind is "" where that is not known any more, and
// Address what it was called.
type LineageLink struct {
	FromKind string
	FromRun  int64
	FromID   int64
	ToKind   string
	ToRun    int64
	ToID     int64
	How      string
	Use      string
	Data     string
	Address  string
	Project  string // where it begins; "": a snapshot, or not known
}

// LineageNode is what is shown of a thing.
type LineageNode struct {
	Kind    string
	Run, ID int64
	Project string // "": a snapshot
	Number  int    // of the run
	Dataset string
	Of      int // number of the snapshot or evaluation
	Standing
	Title  string
	Who    string
	At     *time.Time
	State  string
	Doomed bool
	Items  int64  // of a snapshot
	On     string // what an evaluation was on
	Made   []byte // what an evaluation measured: {"accuracy": 0.93}; where an edition is used: ["harbour-north"]
	Saved  int64  // checkpoints of a run
}

// NamedEdition is an edition, with the project of its model.
type NamedEdition struct {
	ID      int64
	Project string
}
