package api

// Spec describes an operation without its types.
type Spec struct {
	ID, Method, Path string // Path is below /api/v1
	Summary          string
	Access           Role     // what one must be, on the project of the path, else on the service
	Own              Role     // what is enough for a run that one has made oneself; 0: no less
	Anywhere         bool     // Access is enough on any project; where there is none in the path
	Everywhere       bool     // the project of the path may be Everywhere: Access is needed on the service
	Whole            bool     // not with a token that is narrowed
	Status           int      // of success; 0: 200, or 204 without output
	MaxBody          int64    // bytes; 0: 1 MiB
	Binary           bool     // the Go client speaks CBOR here, not JSON
	Recorders        bool     // called by recorders all the time, not by people
	Long             bool     // it may take as long as the blob store does
	Reports          bool     // receivers of events may do this with the token of an event
	Media            []string // what is answered with where that is not the output
	Parts            bool     // parts of it may be asked for (Range), under conditions (ETag)
	OwnCheck         bool     // the service checks the body itself, value by value; the schema only describes it
}

// Operation is one call of the API with its input and output. The input's tags (path, query, header) place its fields;
// its field Body is the body. The output is the JSON answer, or None.
type Operation[I, O any] struct{ Spec }

// None is the output of operations that answer with nothing, or with something other than JSON.
type None struct{}

// Media types of what is downloaded: of tables, and of files that somebody else wrote, whose type their bytes tell.
var (
	tables = []string{"text/csv", "application/jsonl", "application/vnd.apache.parquet"}
	files  = []string{"application/octet-stream", "text/plain", "image/*", "audio/*", "video/*"}
)

var declared []Spec

func declare[I, O any](s Spec) Operation[I, O] {
	declared = append(declared, s)
	return Operation[I, O]{s}
}

// Operations lists every operation, in the order in which they are declared.
func Operations() []Spec { return append([]Spec(nil), declared...) }

// Base is where the operations' paths begin.
const Base = "/api/v1"

// Page is a page of a list; Next, if set, is the cursor of the page after it (also in the Link header, RFC 8288).
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
	Says  string `json:"says,omitempty" doc:"Why there is nothing, where what was asked for explains it"`
}

// NextPage is the cursor that goes into the Link header.
func (p *Page[T]) NextPage() string { return p.Next }

// PageInput is what every list takes.
type PageInput struct {
	Cursor string `query:"cursor" doc:"From the answer before" maxLength:"200"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
}
