package curves

import (
	"kembrel/service/finding"
	"kembrel/store"
	"kembrel/store/pg"
)

// Curves answers for curves.
type Curves struct {
	*finding.Finder
	db       *pg.Store
	readings store.Readings
}

// New makes the slice.
func New(f *finding.Finder, db *pg.Store) *Curves { return &Curves{Finder: f, db: db, readings: db} }
