package act

import (
	"log/slog"
)

// Act is embedded by every slice.
type Act struct {
	db   Storage
	Log  *slog.Logger
	Live *Live

	places Remembered[string, knownPlace] // by key
	makers Remembered[string, int64]      // of runs, by address
	counts counts
}

// New makes it on an open store.
func New(db Storage, log *slog.Logger) *Act {
	a := &Act{db: db, Log: log, Live: NewLive(db, log)}
	a.WhenRightsChange(a.ForgetPlaces)
	return a
}

// WhenEventsCome has something called whenever events were written. It is said before any news are heard.
func (s *Act) WhenEventsCome(heard func()) { s.Live.heard = append(s.Live.heard, heard) }

// WhenRightsChange has something called whenever somebody may see more, or less, than before. It is said before any
// news are heard.
func (s *Act) WhenRightsChange(forget func()) { s.Live.forget = append(s.Live.forget, forget) }
