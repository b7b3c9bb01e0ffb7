package api

import (
	"encoding/json"
	"time"
)

// Search tries many settings of hyperparameters: those that its strategy picks from its space (docs/search.md). Its
// trials are runs.
type Search struct {
	Project  string    `json:"project"`
	Number   int       `json:"number"`
	Title    string    `json:"title"`
	Strategy string    `json:"strategy" enum:"grid,random"`
	Space    string    `json:"space" doc:"As YAML"`
	Seed     int64     `json:"seed"`
	Budget   int       `json:"budget" doc:"Trials at most"`
	Command  []string  `json:"command" doc:"With places for values in braces"`
	Who      string    `json:"who"`
	Started  time.Time `json:"started"`
	Says     string    `json:"says" doc:"How far it is"`
	Count    int       `json:"count" doc:"Trials that there will be"`
	Archived bool      `json:"archived,omitempty"`
	Trials   []Trial   `json:"trials,omitempty" doc:"All that there will be, in order; absent in lists"`
}

// Trial is one setting of a search, and the newest run of it.
type Trial struct {
	Number  int                        `json:"number"`
	Setting map[string]json.RawMessage `json:"setting"`
	Run     int                        `json:"run,omitempty" doc:"Number of its run; absent: not started"`
	State   string                     `json:"state,omitempty"`
	Done    bool                       `json:"done" doc:"Whether going on with the search leaves it: it ended, but not by a signal"`
	Best    *Float                     `json:"best,omitempty" doc:"Of the objective"`
	Started *time.Time                 `json:"started,omitempty"`
	Ended   *time.Time                 `json:"ended,omitempty"`
	Took    float64                    `json:"took,omitempty" doc:"Seconds"`
}

// NewSearch makes a search. Sent again with the same idempotency key it answers the same one.
type NewSearch struct {
	ProjectInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Title    string   `json:"title,omitempty" maxLength:"200"`
		Strategy string   `json:"strategy" enum:"grid,random"`
		Space    string   `json:"space" maxLength:"65536"`
		Seed     int64    `json:"seed" minimum:"0"`
		Budget   int      `json:"budget" minimum:"1" maximum:"10000"`
		Command  []string `json:"command" minItems:"1" maxItems:"1000"`
	}
}

// SearchInput names a search.
type SearchInput struct {
	ProjectInput
	Number int `path:"number" minimum:"1" maximum:"2147483647"`
}

// SearchesInput lists searches.
type SearchesInput struct {
	ProjectInput
	PageInput
	Shown string `query:"shown" enum:"active,archived,all" default:"active"`
}

// SearchArchiveInput archives a search, or takes it back.
type SearchArchiveInput struct {
	SearchInput
	Body struct {
		Archived bool `json:"archived"`
	}
}

// SearchEdit changes how many trials a search has.
type SearchEdit struct {
	SearchInput
	Body struct {
		Budget int `json:"budget" minimum:"1" maximum:"10000"`
	}
}

// The operations on searches.
var (
	ListSearches = declare[SearchesInput, Page[Search]](Spec{ID: "searches", Method: "GET",
		Path: "/projects/{project}/searches", Summary: "List searches, the newest first", Access: Reader})
	CreateSearch = declare[NewSearch, Search](Spec{ID: "create-search", Method: "POST",
		Path: "/projects/{project}/searches", Summary: "Create a search", Access: Member, Status: 201})
	GetSearch = declare[SearchInput, Search](Spec{ID: "search", Method: "GET",
		Path: "/projects/{project}/searches/{number}", Summary: "Show a search with its trials", Access: Reader})
	ArchiveSearch = declare[SearchArchiveInput, Search](Spec{ID: "archive-search", Method: "PUT",
		Path:    "/projects/{project}/searches/{number}/archived",
		Summary: "Take a search out of the list, or put it back", Access: Member})
	DeleteSearch = declare[SearchInput, None](Spec{ID: "delete-search", Method: "DELETE",
		Path: "/projects/{project}/searches/{number}", Summary: "Delete a search; its runs stay", Access: Member})
	ChangeSearch = declare[SearchEdit, Search](Spec{ID: "change-search", Method: "PATCH",
		Path: "/projects/{project}/searches/{number}", Summary: "Give a search more trials, or fewer", Access: Member})
)
