package projects

import (
	"kembrel/service/finding"
)

// Projects answers for projects and views.
type Projects struct {
	*finding.Finder
	db Storage
}

// New makes the slice.
func New(f *finding.Finder, db Storage) *Projects { return &Projects{Finder: f, db: db} }
