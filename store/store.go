package store

import "database/sql"

// ErrNone says that a row asked for is not there. What a driver answers then is it.
var ErrNone = sql.ErrNoRows
