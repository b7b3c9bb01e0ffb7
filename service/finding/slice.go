package finding

import (
	"kembrel/api"
	"kembrel/service/act"
)

// Finder finds projects and runs. Slices that name runs embed it.
type Finder struct {
	*act.Act
	db   Storage
	runs act.Remembered[api.RunInput, int64] // by address; a run keeps it

	turns *act.Turns
}

// New makes it.
func New(a *act.Act, db Storage) *Finder {
	return &Finder{Act: a, db: db, turns: act.NewTurns(mostLists, "lists")}
}

// Forget drops what is remembered of addresses: runs were deleted.
func (s *Finder) Forget() {
	s.runs.Forget()
	s.ForgetRuns()
}
