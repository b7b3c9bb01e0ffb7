package people

import (
	"kembrel/service/act"
	"kembrel/store/pg"
)

// People answers for people and their credentials.
type People struct {
	*act.Act
	db          *pg.Store
	tries       *tries
	credentials credentials
	tokens      act.Remembered[string, knownToken] // by hash
}

// New makes the slice.
func New(a *act.Act, db *pg.Store) *People { return &People{Act: a, db: db, tries: newTries()} }
