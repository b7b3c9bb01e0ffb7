package act

import (
	"log/slog"
)

// Act is embedded by every slice.
type Act struct {
	db   Storage
	Log  *slog.Logger
	Live *Live
}

// New makes it on an open store.
func New(db Storage, log *slog.Logger) *Act {
	return &Act{db: db, Log: log, Live: newLive(db, log)}
}
