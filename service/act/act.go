package act

import (
	"log/slog"

	"kembrel/store/pg"
)

// Act is embedded by every slice.
type Act struct {
	db   *pg.Store
	Log  *slog.Logger
	Live *Live
}

// New makes it on an open store.
func New(db *pg.Store, log *slog.Logger) *Act {
	return &Act{db: db, Log: log, Live: newLive(db, log)}
}
