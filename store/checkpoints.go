package store

import (
	"encoding/json"
	"time"

	"kembrel/core/verdict"
)

// Checkpoint is a row of checkpoints.
type Checkpoint struct {
	ID      int64
	Key     string
	Leg     int
	Step    int64
	Epoch   float64
	Why     string
	Figures json.RawMessage
	Saved   time.Time
	Size    int64

	Pinned        bool
	Goes, Dropped *time.Time
	WhyGoes       string
	ByRule        bool
}

// File is a file of a checkpoint; Chunks is packed as chunk.Pack does.
type File struct {
	Checkpoint int64
	Path, Part string
	Size       int64
	Digest     []byte
	Chunks     []byte
}

// SavedFile is a file with when its checkpoint was saved.
type SavedFile struct {
	File
	Saved time.Time
}

// KnownCheckpoint is a checkpoint with the run that has it.
type KnownCheckpoint struct {
	Project string
	Number  int
	Standing
}

// Standing is where a checkpoint stands in its run.
type Standing struct {
	Leg      int
	Step     int64
	Epoch    float64
	Replaced bool // a later leg began before it
	Shared   bool // a later one of the present course has its epoch
}

// PendingFile is such a file.
type PendingFile struct {
	Digest          []byte
	Run, Checkpoint int64
	Path            string
}

// TensorFile is what is known of the tensors in a file.
type TensorFile struct {
	Digest     []byte
	Weights    []byte // fingerprint; nil where the file could not be read
	Problem    string
	Tensors    json.RawMessage
	Parameters *int64     // values in all of them; nil: not known
	Again      *time.Time // when to try again; nil: what is known is final
}

// Holder is a checkpoint that holds a chunk.
type Holder struct {
	Project string
	Number  int
	Standing
}

// SizedKind is what things of a kind, that are no checkpoints, take.
type SizedKind struct {
	Kind  string
	Count int64
	Bytes int64
}

// ChunkTotals is what all chunks come to.
type ChunkTotals struct {
	Chunks, Bytes, Stored, Damaged, Missing, Loose, Held, Checkpoints int64
}

// Keeping is a project whose keep rules are to be looked at.
type Keeping struct {
	ID        int64
	Key       string
	Objective verdict.Objective
}

// KeepCandidate is a checkpoint that a keep rule decides on.
type KeepCandidate struct {
	Run    int64
	Number int
	State  string
	Rule   json.RawMessage // the run's own, else the project's
	ID     int64
	Standing
	Saved   time.Time
	Size    int64
	Figures json.RawMessage
	Pinned  bool
	Goes    *time.Time
	ByRule  bool
}

// Beginning is a run that began, or a leg that went on, from the checkpoint From, which is at Step.
type Beginning struct {
	Address, From string
	Step          int64
}

// DueCheckpoint is a checkpoint whose grace period is over.
type DueCheckpoint struct {
	Run, ID, Step int64
	Why           string
}

// Held is what some checkpoints hold: bytes of their different chunks, as stored, and of that what nothing else holds.
type Held struct {
	Part               int64
	Bytes, Stored, Own int64
}

// HeldQuery chooses checkpoints: of a project, a run (0: all), or some (nil: all); and By what they are taken together:
// project, run, checkpoint or all.
type HeldQuery struct {
	By           string
	Project, Run int64
	Checkpoints  []int64
}

// CheckpointSum is how many checkpoints a part has and had, and the bytes of those it has, each whole.
type CheckpointSum struct {
	Part                                int64
	Address, Title                      string
	Checkpoints, Going, Dropped, Pinned int
	Whole                               int64
}
