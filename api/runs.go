package api

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"kembrel/core/space"
)

// Project holds the runs of one task.
type Project struct {
	Key       string    `json:"key" example:"vessels"`
	Title     string    `json:"title"`
	Objective Objective `json:"objective" doc:"The curve by which runs are judged, and its direction"`
	Created   time.Time `json:"created"`
	Runs      int64     `json:"runs"`
	Running   int64     `json:"running"`
	Lost      int64     `json:"lost"`
	Best      *Figure   `json:"best,omitempty" doc:"The best reading of the objective among all runs"`
	BestRun   int       `json:"best_run,omitempty" doc:"The run it belongs to"`
	Baseline  int       `json:"baseline,omitempty" doc:"Number of the run that others are held against"`
	Open      bool      `json:"open" doc:"Everybody who is signed in sees it"`

	Archived *time.Time `json:"archived,omitempty" doc:"Since when it is out of the way"`

	Role string `json:"role" enum:"reader,recorder,member,approver,owner,administrator" doc:"What whoever asks is on it"`
}

// Improvement is a run whose best reading of the objective beat those of all runs before it.
type Improvement struct {
	Run     string    `json:"run" example:"vessels/17"`
	Started time.Time `json:"started"`
	Best    Float     `json:"best"`
}

// Improvements are how the best of a project moved.
type Improvements struct {
	Items   []Improvement `json:"items" doc:"Oldest first"`
	Earlier bool          `json:"earlier" doc:"There are more before these than were asked for"`
	Since   int64         `json:"since" doc:"Runs after the last, none of them better; 1001 where there are more than 1000"`
	Says    string        `json:"says"`
}

// ImprovementsInput asks for the newest of a project's improvements.
type ImprovementsInput struct {
	ProjectInput
	Limit int `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"How many at most"`
}

// Figure is a reading with where it stands.
type Figure struct {
	Curve string `json:"curve"`
	Value Float  `json:"value"`
	Step  int64  `json:"step"`
	Epoch Float  `json:"epoch" doc:"NaN where the program did not say"`
}

// Run is one training of one model.
type Run struct {
	Address   string                     `json:"address" example:"vessels/17"`
	Project   string                     `json:"project"`
	Number    int                        `json:"number"`
	Title     string                     `json:"title"`
	State     string                     `json:"state" enum:"running,finished,stopped,failed,lost"`
	Who       string                     `json:"who"`
	Host      string                     `json:"host"`
	Started   time.Time                  `json:"started"`
	Ended     *time.Time                 `json:"ended,omitempty"`
	Took      float64                    `json:"took" doc:"Seconds of its legs that have ended; what lay between legs is not counted"`
	Since     *time.Time                 `json:"since,omitempty" doc:"Start of the leg that is running"`
	Objective Objective                  `json:"objective"`
	Hyper     map[string]json.RawMessage `json:"hyper" doc:"Hyperparameters: number, boolean, text, or a list of these"`
	Best      *Figure                    `json:"best,omitempty" doc:"Best reading of the objective"`
	Last      *Figure                    `json:"last,omitempty" doc:"Last reading of the objective"`
	Against   *Float                     `json:"against_baseline,omitempty" doc:"Best reading less that of the project's baseline"`
	Step      int64                      `json:"step" doc:"Last step reported"`
	Epoch     Float                      `json:"epoch" doc:"Last epoch reported; NaN where none was"`
	Verdict   *Verdict                   `json:"verdict,omitempty" doc:"What the curves say; absent until the run has been judged"`
	Sketch    Floats                     `json:"sketch,omitempty" doc:"The objective's curve in at most 64 values, for a small drawing"`
	Tags      []string                   `json:"tags,omitempty"`
	Alarms    []string                   `json:"alarms,omitempty" doc:"Kinds of alarms that its latest predictions raise"`
	Note      string                     `json:"note,omitempty" doc:"What people wrote about it"`
	Origin    *Origin                    `json:"origin,omitempty" doc:"The run that it branched from, or repeats"`
	space.Place
	Archived *time.Time        `json:"archived,omitempty" doc:"Since when it is out of the way"`
	DeleteAt *time.Time        `json:"delete_at,omitempty" doc:"When it will be deleted; until then it can be brought back"`
	Values   []json.RawMessage `json:"values,omitempty" doc:"What the columns asked for say of it, in their order; null where absent"`
}

// Origin is where a run comes from: a branch goes on from a checkpoint of another run, a rerun does again what another
// run did.
type Origin struct {
	Kind  string                     `json:"kind" enum:"branch,rerun"`
	From  string                     `json:"from" maxLength:"200" example:"vessels/4@e20" doc:"Address of the checkpoint, or of the run repeated"`
	Step  int64                      `json:"step,omitempty" doc:"Of the checkpoint"`
	Leg   int                        `json:"leg,omitempty" doc:"Of the checkpoint"`
	Epoch Float                      `json:"epoch,omitempty"`
	Parts []string                   `json:"parts,omitempty" maxItems:"1000" doc:"Of the checkpoint, as given to the program"`
	Asked map[string]json.RawMessage `json:"asked,omitempty" maxProperties:"2000" doc:"Hyperparameters that were asked to be other; those that the program took are among the run's"`
}

// Start is what a run's weights were before training.
type Start struct {
	Weights string `json:"weights,omitempty" enum:"fresh,trained" doc:"As the program declared; absent: it did not say"`
	Digest  string `json:"digest,omitempty" doc:"Fingerprint of the weights (docs/storage.md)"`
	Seed    *int64 `json:"seed,omitempty" doc:"Of the random weights"`
	Equals  string `json:"equals,omitempty" doc:"A checkpoint of another run with the same weights"`
	Says    string `json:"says,omitempty" doc:"All this as a sentence"`
}

// Repeats says how the curves of a rerun compare with those of the run that it repeats.
type Repeats struct {
	Says       string  `json:"says" example:"Repeatable: yes"`
	Same       bool    `json:"same" doc:"Every reading that both have is the same, bit for bit"`
	Difference Float   `json:"difference" doc:"Largest relative difference"`
	Curve      string  `json:"curve,omitempty" doc:"Where they differ first"`
	Since      *Figure `json:"since,omitempty" doc:"First reading that differs"`
	Readings   int64   `json:"readings" doc:"Readings compared"`
}

// ProgramSays is what a training program tells of itself before it trains.
type ProgramSays struct {
	Language string            `json:"language,omitempty" maxLength:"100"`
	Packages map[string]string `json:"packages,omitempty" maxProperties:"10000" doc:"Installed packages and their versions"`
	Needs    []string          `json:"needs,omitempty" maxItems:"1000" doc:"Parts of a checkpoint that resuming needs"`
	Start    *Start            `json:"start,omitempty"`
}

// Untaken is a hyperparameter that was asked to have a value which the program did not take.
type Untaken struct {
	Name  string          `json:"name"`
	Asked json.RawMessage `json:"asked"`
	Used  json.RawMessage `json:"used,omitempty" doc:"Absent: the program has none of this name"`
}

// RunDetail is a run with what its page shows.
type RunDetail struct {
	Run
	Answers     Answers     `json:"answers"`
	Recipe      Recipe      `json:"recipe"`
	Legs        []Leg       `json:"legs"`
	Notes       []Note      `json:"notes"`
	Curves      []CurveInfo `json:"curves"`
	Checkpoints int         `json:"checkpoints"`
	Stop        StopState   `json:"stop"`
	Start       *Start      `json:"start,omitempty"`
	Data        []UsedData  `json:"data,omitempty" doc:"What it used for training, validation, test"`
	Needs       []string    `json:"needs" doc:"Parts of a checkpoint that resuming this run needs"`
	Repeats     *Repeats    `json:"repeats,omitempty" doc:"Of a rerun that has ended"`
	Untaken     []Untaken   `json:"untaken,omitempty" doc:"Hyperparameters that were asked to have a value and that the program did not take"`
	Raised      []string    `json:"raised,omitempty" doc:"What the alarms of its latest predictions say"`
	Warnings    []string    `json:"warnings,omitempty" doc:"What a person should know before trusting or resuming the run"`
	ExpectedEnd *time.Time  `json:"expected_end,omitempty" doc:"When the last of the epochs will be done at the present pace; only of running runs whose hyperparameter epochs says how many there will be"`
}

// Answers are the sentences that open the sections of a run's page.
type Answers struct {
	Learning string `json:"learning" doc:"How is it learning?"`
	WentIn   string `json:"went_in" doc:"What went in?"`
	CameOut  string `json:"came_out" doc:"What came out?"`
	Happened string `json:"happened" doc:"What happened?"`
	// Evaluated is absent where nothing was.
	Evaluated string `json:"evaluated,omitempty" doc:"What did evaluations find?"`
}

// Recipe is where and how a run was started.
type Recipe struct {
	Command  []string `json:"command" maxItems:"10000"`
	Folder   string   `json:"folder,omitempty" maxLength:"8192"`
	Host     string   `json:"host,omitempty" maxLength:"255"`
	System   string   `json:"system,omitempty" maxLength:"1000" example:"debian 12.5, linux 6.1, amd64"`
	CPU      string   `json:"cpu,omitempty" maxLength:"1000" example:"2 x EPYC"`
	Memory   int64    `json:"memory,omitempty" doc:"Bytes"`
	GPUs     []string `json:"gpus,omitempty" maxItems:"64" doc:"Their names"`
	Commit   string   `json:"commit,omitempty" maxLength:"200"`
	Clean    *bool    `json:"clean,omitempty" doc:"Whether the tree equalled the commit; absent where there is no repository"`
	Language string   `json:"language,omitempty" maxLength:"200" example:"go 1.26"`

	Data        map[string]string `json:"data,omitempty" maxProperties:"100" doc:"Data that it was started with, by what for"`
	ReadOutput  string            `json:"read_output,omitempty" maxLength:"4096" doc:"How readings were found in the program's output: auto, or a pattern"`
	Keep        []string          `json:"keep,omitempty" maxItems:"100" doc:"Patterns of files that were kept with the run at its end"`
	Inside      string            `json:"inside,omitempty" maxLength:"8192" doc:"The folder's place in its repository"`
	Remote      string            `json:"remote,omitempty" maxLength:"8192" doc:"Where the repository came from, without credentials"`
	Changes     string            `json:"changes,omitempty" maxLength:"1048576" doc:"What was not committed, as a patch (git diff --binary HEAD)"`
	Withheld    []string          `json:"withheld,omitempty" maxItems:"1000" doc:"What looked like a secret and was taken out before it was recorded: command, environment NAME, changes: FILE"`
	ChangesSize int64             `json:"changes_size,omitempty" doc:"Bytes of a patch that was too large to record"`
	Untracked   []string          `json:"untracked,omitempty" maxItems:"10000" doc:"Files that the repository did not know; their content is not recorded"`
	Environment map[string]string `json:"environment,omitempty" maxProperties:"10000" doc:"Chosen environment variables"`
	Packages    map[string]string `json:"packages,omitempty" maxProperties:"10000" doc:"Installed packages and their versions"`
	Program     string            `json:"program,omitempty" maxLength:"200" doc:"Digest of the program's file"`
}

// Leg is one process's stretch of a run.
type Leg struct {
	Number   int        `json:"number"`
	State    string     `json:"state" enum:"running,finished,stopped,failed,lost"`
	Host     string     `json:"host"`
	FromStep int64      `json:"from_step"`
	LastStep int64      `json:"last_step"`
	Epoch    Float      `json:"epoch"`
	Started  time.Time  `json:"started"`
	Ended    *time.Time `json:"ended,omitempty"`
	Seen     time.Time  `json:"seen" doc:"Last sign of life"`
	ExitCode *int       `json:"exit_code,omitempty"`
	Signal   string     `json:"signal,omitempty"`
	Why      string     `json:"why,omitempty" doc:"What the program said at its end"`
	Tail     string     `json:"tail,omitempty" doc:"Last lines of output"`
	Resumed  *Resumed   `json:"resumed,omitempty" doc:"What it went on from"`
}

// Resumed is the checkpoint that a leg goes on from.
type Resumed struct {
	From  string   `json:"from" example:"vessels/4@e12" doc:"Address of the checkpoint"`
	Leg   int      `json:"leg,omitempty" doc:"Of the checkpoint"`
	Step  int64    `json:"step"`
	Epoch Float    `json:"epoch"`
	Parts []string `json:"parts" doc:"Given to the program"`
	Lacks []string `json:"lacks,omitempty" doc:"Parts that resuming needs and the program was not given"`
}

// Note is a line that the program or a person left.
type Note struct {
	Leg  int       `json:"leg"`
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// CurveInfo is what a curve comes to.
type CurveInfo struct {
	Name    string  `json:"name"`
	Count   int64   `json:"count"`
	NaN     int64   `json:"nan"`
	Last    *Figure `json:"last,omitempty"`
	Lowest  *Figure `json:"lowest,omitempty"`
	Highest *Figure `json:"highest,omitempty"`
}

// ProjectInput names a project.
type ProjectInput struct {
	Project string `path:"project" maxLength:"40" example:"vessels"`
}

// ProjectsInput lists projects.
type ProjectsInput struct {
	PageInput
	Shown string `query:"shown" enum:",archived,all" doc:"If empty: those that are not archived"`
}

// NewProject makes a project.
type NewProject struct {
	Body struct {
		Key       string    `json:"key" maxLength:"40" example:"vessels"`
		Title     string    `json:"title,omitempty" maxLength:"200"`
		Objective Objective `json:"objective,omitempty,omitzero" doc:"Absent: loss.val, lower"`
	}
}

// ProjectEdit changes a project.
type ProjectEdit struct {
	ProjectInput
	Body struct {
		Title     *string    `json:"title,omitempty" maxLength:"200"`
		Objective *Objective `json:"objective,omitempty"`
		Open      *bool      `json:"open,omitempty" doc:"Everybody who is signed in sees an open project; a closed one only those who have a role on it"`
		Archived  *bool      `json:"archived,omitempty" doc:"It is out of the way: lists leave it out; all else goes on"`
	}
}

// BaselineInput sets the run that a project's others are held against.
type BaselineInput struct {
	ProjectInput
	Body struct {
		Run int `json:"run" minimum:"0" doc:"Number of the run; 0: none"`
	}
}

// RunChoice says which runs of a project are meant, and in which order: newest first unless another is asked for.
type RunChoice struct {
	Shown string `query:"shown" enum:",archived,deleted,all" doc:"If empty: runs that are neither archived nor about to be deleted"`
	Where string `query:"where" maxLength:"4000" example:"best(\"loss.val\") < 0.3 && hyper.lr <= 0.01" doc:"Only runs that fulfil this (docs/filter.md)"`
	Sort  string `query:"sort" maxLength:"400" example:"hyper.lr" doc:"A field, a hyperparameter or a figure to sort by; best and last are those of the objective. Runs without it come last"`
	Order string `query:"order" enum:",ascending,descending" doc:"If empty: the best first for best and last, otherwise ascending"`
}

// RunsInput lists a project's runs.
type RunsInput struct {
	ProjectInput
	PageInput
	RunChoice
	Columns string `query:"columns" maxLength:"8000" example:"hyper.lr,at(\"accuracy.val\")" doc:"Values wanted of each run, separated by commas: fields, hyperparameters, figures, arithmetic on them (docs/filter.md)"`
}

// LandmarksInput asks where pages of a list of runs can begin.
type LandmarksInput struct {
	ProjectInput
	RunChoice
	Every int `query:"every" minimum:"10" maximum:"10000" default:"100" doc:"Runs from one place to the next"`
}

// Landmarks are places in a list of runs where pages can begin, so that any part of it is one page away.
type Landmarks struct {
	Total   int64    `json:"total" doc:"Runs in the list"`
	Every   int      `json:"every"`
	Cursors []string `json:"cursors" doc:"Cursor i gives the page behind run (i+1) every"`
}

// RunField is a field of a run that a filter or a column may name.
type RunField struct {
	Name  string `json:"name"`
	Kind  string `json:"kind" enum:"number,text,time,list"`
	Label string `json:"label" doc:"Heading of a column"`
}

// Words are what a project's newest runs have for columns and filters.
type Words struct {
	Fields []RunField `json:"fields" nullable:"false" doc:"Of every run"`
	Hyper  []string   `json:"hyper" doc:"Names of hyperparameters"`
	Curves []string   `json:"curves" doc:"Names of curves"`
	Tags   []string   `json:"tags"`
}

// ArchiveInput puts a run out of the way, or brings it back.
type ArchiveInput struct {
	RunInput
	Body struct {
		Archived bool `json:"archived"`
	}
}

// LeaveInput marks a run for deletion.
type LeaveInput struct {
	RunInput
	Days float64 `query:"days" minimum:"0" maximum:"365" default:"7" doc:"Until then it can be brought back"`
}

// RunInput names a run.
type RunInput struct {
	ProjectInput
	Number int `path:"number" minimum:"1" maximum:"2147483647"`
}

// RunEdit changes a run.
type RunEdit struct {
	RunInput
	Body struct {
		Title *string   `json:"title,omitempty" maxLength:"200"`
		Tags  *[]string `json:"tags,omitempty" maxItems:"50" doc:"All of them; absent: as they are"`
		Note  *string   `json:"note,omitempty" maxLength:"10000"`
	}
}

// NewRun begins a run. Sent again with the same idempotency key it answers the same run.
type NewRun struct {
	ProjectInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Title   string                     `json:"title,omitempty" maxLength:"200"`
		Hyper   map[string]json.RawMessage `json:"hyper,omitempty" maxProperties:"2000"`
		Recipe  Recipe                     `json:"recipe,omitempty"`
		Started time.Time                  `json:"started"`
		Origin  *Origin                    `json:"origin,omitempty"`
		space.Place
		Stop *StopRule `json:"stop_rule,omitempty" doc:"A stop rule for this run, instead of the project's"`
	}
}

// CompletionInput asks how a filter may go on.
type CompletionInput struct {
	ProjectInput
	Text string `query:"text" maxLength:"4000" doc:"The filter up to the cursor"`
}

// Suggestion is a way to go on with an expression.
type Suggestion struct {
	Text  string `json:"text" doc:"The expression with the word under the cursor completed"`
	Label string `json:"label" doc:"The word"`
}

// Completions are the answer.
type Completions struct {
	Items []Suggestion `json:"items"`
}

// The operations on projects and runs.
var (
	ListLandmarks = declare[LandmarksInput, Landmarks](Spec{ID: "landmarks", Method: "GET",
		Path:    "/projects/{project}/runs/landmarks",
		Summary: "Count runs, and say where pages of them can begin", Access: Reader})
	GetWords = declare[ProjectInput, Words](Spec{ID: "words", Method: "GET", Path: "/projects/{project}/words",
		Summary: "List what there is for columns and filters", Access: Reader})
	ArchiveRun = declare[ArchiveInput, Run](Spec{ID: "archive-run", Method: "PUT",
		Path: "/projects/{project}/runs/{number}/archived", Summary: "Put a run out of the way, or bring it back",
		Access: Member, Own: Recorder})
	DeleteRun = declare[LeaveInput, Run](Spec{ID: "delete-run", Method: "DELETE",
		Path: "/projects/{project}/runs/{number}", Summary: "Delete a run after a grace period: its maker, or an owner",
		Access: Owner, Own: Recorder, Status: 200})
	KeepRun = declare[RunInput, Run](Spec{ID: "keep-run", Method: "POST",
		Path: "/projects/{project}/runs/{number}/keep", Summary: "Bring back a run that is about to be deleted",
		Access: Owner, Own: Recorder, Status: 200})
	CompleteFilter = declare[CompletionInput, Completions](Spec{ID: "complete", Method: "GET",
		Path: "/projects/{project}/complete", Summary: "Complete a filter from the project's own data", Access: Reader})
	ListProjects = declare[ProjectsInput, Page[Project]](Spec{ID: "projects", Method: "GET", Path: "/projects",
		Summary: "List projects", Access: SignedIn})
	CreateProject = declare[NewProject, Project](Spec{ID: "create-project", Method: "POST", Path: "/projects",
		Summary: "Create a project", Access: Member, Status: 201})
	GetProject = declare[ProjectInput, Project](Spec{ID: "project", Method: "GET", Path: "/projects/{project}",
		Summary: "Show a project", Access: Reader})
	GetImprovements = declare[ImprovementsInput, Improvements](Spec{ID: "improvements", Method: "GET",
		Path: "/projects/{project}/improvements", Summary: "Tell how a project's best moved over time", Access: Reader})
	ChangeProject = declare[ProjectEdit, Project](Spec{ID: "change-project", Method: "PATCH",
		Path: "/projects/{project}", Summary: "Change a project's title or objective, or who sees it", Access: Owner})
	DeleteProject = declare[ProjectInput, None](Spec{ID: "delete-project", Method: "DELETE",
		Path: "/projects/{project}", Summary: "Delete a project that has no run and no model", Access: Owner})
	SetBaseline = declare[BaselineInput, Project](Spec{ID: "set-baseline", Method: "PUT",
		Path:    "/projects/{project}/baseline",
		Summary: "Say which run of a project its others are held against", Access: Member})
	ListRuns = declare[RunsInput, Page[Run]](Spec{ID: "runs", Method: "GET", Path: "/projects/{project}/runs",
		Summary: "List runs, newest first", Access: Reader})
	BeginRun = declare[NewRun, Run](Spec{ID: "begin-run", Method: "POST", Path: "/projects/{project}/runs",
		Summary: "Begin a run", Access: Recorder, Recorders: true, Status: 201})
	GetRun = declare[RunInput, RunDetail](Spec{ID: "run", Method: "GET",
		Path: "/projects/{project}/runs/{number}", Summary: "Show a run", Access: Reader})
	ChangeRun = declare[RunEdit, Run](Spec{ID: "change-run", Method: "PATCH",
		Path: "/projects/{project}/runs/{number}", Summary: "Change a run's title, tags and note",
		Access: Member, Own: Recorder})
	LeaveNote = declare[NewRunNote, None](Spec{ID: "leave-note", Method: "POST",
		Path: "/projects/{project}/runs/{number}/notes", Summary: "Leave a note on a run", Access: Member,
		Own: Recorder, Reports: true})
)

// NewRunNote is a note that somebody leaves on a run.
type NewRunNote struct {
	RunInput
	Body struct {
		Text string `json:"text" minLength:"1" maxLength:"10000"`
	}
}

// WithheldFrom reports whether something was taken out of a part of the recipe: command, environment or changes.
func (r Recipe) WithheldFrom(part string) bool {
	return slices.ContainsFunc(r.Withheld, func(what string) bool { return strings.HasPrefix(what, part) })
}
