package store

import (
	"encoding/json"
	"fmt"
	"time"
)

// Model is a model in the catalogue.
type Model struct {
	ID        int64
	Name      string
	Title     string
	Purpose   string
	Limits    string
	Contact   string
	Project   string
	ProjectID int64
	Who       string
	Created   time.Time
	Editions  int
}

// ModelTexts are what people write of a model; nil: it stays.
type ModelTexts struct{ Title, Purpose, Limits, Contact *string }

// ModelStanding is a standing of a model, with who has it at the moment.
type ModelStanding struct {
	Model     int64
	Name      string
	Approvers int
	Checks    []string
	Reporters map[string]string // who may report a check, by its name; absent: anybody

	LoweredBy   int64           // who lowered it; 0: nobody
	LoweredFrom json.RawMessage // the rule of before; null: none
	Signed      json.RawMessage // of the present holding, as in Holding; nil: it never had one

	Seq     int        // of the present holding; 0: it never had one
	Edition *int64     // who has it; nil: nobody
	Since   *time.Time // of that
	Who     string
	Why     string
}

// Edition is a checkpoint entered in a model.
type Edition struct {
	ID      int64
	Model   int64
	Number  int
	Origin  string
	Run     *int64 // nil: it is gone
	Facts   json.RawMessage
	Size    int64
	Why     string
	Who     string
	Entered time.Time
	Latest  int64 // check on it; 0: none
}

// Tag tells whether it is the edition that somebody has: it changes with the edition and with its checks.
func (e Edition) Tag() string { return fmt.Sprintf(`W/"%d-%d"`, e.ID, e.Latest) }

// Holding is a stretch of time in which an edition, or none, had a standing.
type Holding struct {
	Standing string
	Seq      int
	Edition  *int // its number
	Since    time.Time
	Until    *time.Time
	Who      string
	Why      string
	Signed   json.RawMessage // who had signed off when it began: [{who, why, at}]
}

// NewHolding gives a standing to an edition, or to none.
type NewHolding struct {
	Model    int64
	Standing string
	Edition  *int64
	Person   int64
	Why      string
	Asking   *int64
	Signed   json.RawMessage // as in Holding; nil: nobody
}

// Asking is an edition that waits for a guarded standing, or did.
type Asking struct {
	ID       int64
	Model    int64
	Standing string
	Edition  int64
	Number   int // of the edition
	Person   int64
	Who      string
	Why      string
	Asked    time.Time
	Ended    *time.Time
	Outcome  string // taken, withdrawn; "": it waits
	Ender    *string
	Because  string
	Rule     json.RawMessage // the standing's when it was asked for
}

// SignOff is one person's on an asking.
type SignOff struct {
	Asking    int64
	Person    int64
	Who       string
	Why       string
	At        time.Time
	Upto      int64
	Withdrawn *time.Time
	Closed    bool // whoever gave it is gone
	May       bool // whoever gave it may still sign off
}

// EditionOutcome is the latest outcome of a check by one who reports it.
type EditionOutcome struct {
	ID      int64
	Edition int64
	Name    string
	Passed  bool
	Who     string
}

// EditionCheck is a named outcome reported on an edition.
type EditionCheck struct {
	ID      int64
	Edition int64
	Name    string
	Passed  bool
	Figures json.RawMessage
	Text    string
	Link    string
	Who     string
	At      time.Time
}

// CheckFile is a file that came of a check.
type CheckFile struct {
	Check  int64
	Path   string
	Size   int64
	Digest []byte
	Chunks []byte
}

// Consumer is a system that says that it uses an edition.
type Consumer struct {
	Model  int64
	Place  string
	Number int
	Who    string
	Since  time.Time
	Heard  time.Time
}
