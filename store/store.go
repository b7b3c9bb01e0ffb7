package store

import (
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
)

// ErrNone says that a row asked for is not there. What a driver answers then is it.
var ErrNone = sql.ErrNoRows

// MostReports is for how many purposes the token of one event may be used to report back.
const MostReports = 50

// ErrCursor says that a place in a list is none of the list that is asked for.
var ErrCursor = errors.New("not a place in this list")

// ErrMark says that a text is no mark of a place in the order of events.
var ErrMark = errors.New("not a mark of an event")

// InTx is what happens in a transaction, so that a job can be begun with it.
type InTx interface{ Tx() pgx.Tx }
