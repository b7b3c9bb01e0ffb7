package store

import (
	"time"

	"kembrel/core/verdict"
)

// View is a kept way to look at a project's runs.
type View struct {
	ID         int64
	Name, Look string
	Who        string
	Everybody  bool
	Changed    time.Time
}

// Project is a row of projects with its counts.
type Project struct {
	ID         int64
	Key, Title string
	Objective  verdict.Objective
	Created    time.Time
	Creator    int64
	Baseline   int // number of a run; 0: none
	Open       bool
	Archived   *time.Time
}

// ProjectChange is what is to be changed of a project; nil: it stays.
type ProjectChange struct {
	Title     *string
	Objective *verdict.Objective
	Open      *bool
	Archived  *bool
}

// CountedProject is a project with how many runs it has.
type CountedProject struct {
	Project
	Runs, Running, Lost int64
}

// BestRun is the best run of a project by its objective.
type BestRun struct {
	ID     int64
	Number int
}

// Improvement is a run whose best reading of the project's objective beat those of all runs before it.
type Improvement struct {
	Number  int
	Best    float64
	Started time.Time
}

// Seen says which projects somebody sees: all, or the open ones and those of some keys; of these only one, where that
// is named.
type Seen struct {
	All, Open bool
	Keys      []string
	Only      string
}
