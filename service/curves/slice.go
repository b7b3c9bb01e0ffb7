package curves

import (
	"kembrel/service/finding"
	"kembrel/store"
)

// Curves answers for curves.
type Curves struct {
	*finding.Finder
	db       Storage
	readings store.Readings
}

// New makes the slice.
func New(f *finding.Finder, db Storage) *Curves { return &Curves{Finder: f, db: db, readings: db} }
