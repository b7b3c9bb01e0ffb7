package searches

import (
	lru "github.com/hashicorp/golang-lru/v2"

	"kembrel/core/space"
	"kembrel/service/act"
	"kembrel/service/finding"
)

// Searches answers for searches.
type Searches struct {
	*finding.Finder
	db     Storage
	counts act.Remembered[picking, int] // how many settings
	picked *lru.Cache[picking, []space.Setting]
}

// New makes the slice.
func New(f *finding.Finder, db Storage) *Searches {
	return &Searches{Finder: f, db: db, picked: newPicked()}
}
