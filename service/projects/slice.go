package projects

import (
	"kembrel/service/finding"
	"kembrel/store/pg"
)

// Projects answers for projects and views.
type Projects struct {
	*finding.Finder
	db *pg.Store
}

// New makes the slice.
func New(f *finding.Finder, db *pg.Store) *Projects { return &Projects{Finder: f, db: db} }
