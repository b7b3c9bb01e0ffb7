package entering

import (
	"embed"

	"kembrel/store/pg/db"
)

// Files are the queries of this slice.
//
//go:embed *.sql
var Files embed.FS

// Queries ask the database.
type Queries struct{ db.Q }
