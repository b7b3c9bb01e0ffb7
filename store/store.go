package store

import (
	"database/sql"

	"github.com/jackc/pgx/v5"
)

// ErrNone says that a row asked for is not there. What a driver answers then is it.
var ErrNone = sql.ErrNoRows

// InTx is what happens in a transaction, so that a job can be begun with it.
type InTx interface{ Tx() pgx.Tx }
