package api

import "time"

// View is a way to look at a project's runs that somebody keeps: filter, order, columns.
type View struct {
	ID        int64     `json:"id"`
	Name      string    `json:"name"`
	Look      string    `json:"look" doc:"The query of the console's link"`
	Everybody bool      `json:"everybody" doc:"Whether it is the project's; otherwise one's own"`
	Changed   time.Time `json:"changed"`
}

// ViewInput keeps a view under a name; one that has the name already is replaced.
type ViewInput struct {
	ProjectInput
	Body struct {
		Name      string `json:"name" minLength:"1" maxLength:"80"`
		Look      string `json:"look" maxLength:"8000"`
		Everybody bool   `json:"everybody,omitempty"`
	}
}

// ViewIDInput names a view.
type ViewIDInput struct {
	ProjectInput
	ID int64 `path:"id"`
}

// The operations on views.
var (
	ListViews = declare[ProjectInput, Page[View]](Spec{ID: "views", Method: "GET", Path: "/projects/{project}/views",
		Summary: "List one's own views and the project's", Access: Reader})
	KeepView = declare[ViewInput, View](Spec{ID: "keep-view", Method: "PUT", Path: "/projects/{project}/views",
		Summary: "Keep a view under a name", Access: Reader})
	DropView = declare[ViewIDInput, None](Spec{ID: "drop-view", Method: "DELETE",
		Path: "/projects/{project}/views/{id}", Summary: "Drop a view", Access: Reader})
)
