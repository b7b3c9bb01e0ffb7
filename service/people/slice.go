package people

import (
	"kembrel/service/act"
)

// People answers for people and their credentials.
type People struct {
	*act.Act
	db          Storage
	tries       *tries
	credentials credentials
	providers   providers
	tokens      act.Remembered[string, knownToken] // by hash
}

// New makes the slice.
func New(a *act.Act, db Storage) *People {
	s := &People{Act: a, db: db, tries: newTries()}
	a.WhenRightsChange(s.tokens.Forget)
	return s
}
