package judging

import (
	"kembrel/service/finding"
	"kembrel/store"
)

// Judging answers for verdicts and stop rules.
type Judging struct {
	*finding.Finder
	db       Storage
	readings store.Readings
	watches  watches
	unjudged unjudged
}

// New makes the slice.
func New(f *finding.Finder, db Storage) *Judging { return &Judging{Finder: f, db: db, readings: db} }

// Summarised notes that readings of a run were summarised, so that it is judged when there is time. Only one goroutine
// may call it, the one that calls JudgeSome.
func (s *Judging) Summarised(d store.Summarised) { s.unjudged.add(d) }
