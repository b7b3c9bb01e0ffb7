package store

import "time"

// RunFile is a file that a run or an evaluation wrote and that is no checkpoint.
type RunFile struct {
	Run        int64
	ID         int64
	Evaluation *int // number; nil: of the run itself
	Key        string
	Path       string
	Kind       string
	Size       int64
	Digest     []byte
	Chunks     []byte
	Leg        int
	Who        string
	Written    time.Time
	Dropped    *time.Time
}

// NewRunFile is what one is made of.
type NewRunFile struct {
	RunFile
	EvaluationID int64 // 0: none
	Person       int64
}

// RunFileQuery asks for files of a run, by path.
type RunFileQuery struct {
	Run        int64
	Evaluation int    // only of this evaluation, by its number; 0: of the run itself; -1: all
	Path       string // only this; "": all
	After      string // only paths behind this, and of it evaluations behind Since
	Since      int
	Limit      int
}

// DueRunFile is a file that the rule of its project lets go.
type DueRunFile struct {
	Run        int64
	Evaluation int64 // id; 0: of the run itself
	Path       string
	Size       int64
}
