package api

import "time"

// RunFile is a file that a run or an evaluation wrote and that is no checkpoint (docs/files.md).
type RunFile struct {
	Run     string     `json:"run" example:"vessels/3"`
	Path    string     `json:"path" example:"report/results.csv"`
	Kind    string     `json:"kind" enum:"text,table,picture,sound,other" doc:"By its name and its content"`
	Size    int64      `json:"size" doc:"Bytes"`
	Digest  string     `json:"digest" doc:"BLAKE3-256"`
	Leg     int        `json:"leg,omitempty" doc:"Absent where it was added later"`
	Of      int        `json:"evaluation,omitempty" doc:"Number of the evaluation that wrote it; absent where the run did"`
	Who     string     `json:"who"`
	Written time.Time  `json:"written"`
	Dropped *time.Time `json:"dropped,omitempty" doc:"When its bytes went; what it was stays known"`
}

// NewRunFile adds a file whose chunks have been sent. One of the same path takes the place of the one before. Sent
// again with the same key it answers the same one.
type NewRunFile struct {
	RunInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Leg  int  `json:"leg,omitempty" minimum:"0" maximum:"2147483647"`
		Of   int  `json:"evaluation,omitempty" minimum:"0" maximum:"2147483647" doc:"Number of the evaluation that wrote it"`
		File File `json:"file"`
	}
}

// RunFilesInput lists the files of a run.
type RunFilesInput struct {
	RunInput
	PageInput
	Of  int  `query:"evaluation" minimum:"0" maximum:"2147483647" doc:"Only of this evaluation"`
	Own bool `query:"own" doc:"Only of the run itself, not of its evaluations"`
}

// RunFileInput names a file of a run.
type RunFileInput struct {
	RunInput
	Path string `query:"path" required:"true" maxLength:"1000"`
	Of   int    `query:"evaluation" minimum:"0" maximum:"2147483647" doc:"Of this evaluation; 0: of the run itself"`
}

// RunFileContentInput asks for the bytes of a file.
type RunFileContentInput struct {
	RunFileInput
	Range string `header:"Range"`
}

// RunFileViewInput asks for what a person sees of a file.
type RunFileViewInput struct {
	RunFileInput
	From   int    `query:"from" minimum:"0" maximum:"100000000" doc:"How many lines or rows to leave out"`
	Limit  int    `query:"limit" minimum:"1" maximum:"5000" default:"500"`
	Search string `query:"search" maxLength:"200" doc:"Only lines or rows that have this in them, in upper or lower case"`
}

// RunFileView is a part of a file as a person reads it.
type RunFileView struct {
	RunFile
	Columns []string     `json:"columns,omitempty" doc:"Of a table"`
	Rows    []RunFileRow `json:"rows" doc:"Lines of a text, rows of a table; none of other kinds"`
	More    bool         `json:"more,omitempty" doc:"There are more behind these"`
	Cut     string       `json:"cut,omitempty" doc:"Why the rest is not shown"`
}

// RunFileRow is a line or a row.
type RunFileRow struct {
	Line  int      `json:"line" doc:"From 1"`
	Cells []string `json:"cells" doc:"One for a line of text"`
}

// RunFilesDifferenceInput compares the files of two runs.
type RunFilesDifferenceInput struct {
	RunInput
	Run  string `query:"run" required:"true" maxLength:"200" example:"vessels/8" doc:"The other run"`
	Path string `query:"path" maxLength:"1000" doc:"Show how this text differs; absent: say which files differ"`
}

// RunFilesDifference says how the files of a run differ from those of another.
type RunFilesDifference struct {
	From  string        `json:"from"`
	To    string        `json:"to" doc:"The other run"`
	Says  string        `json:"says"`
	Files []FileDiffers `json:"files" doc:"By path"`
	Patch string        `json:"patch,omitempty" doc:"How the text differs, as a unified patch"`
}

// FileDiffers is a file of one or both of two runs.
type FileDiffers struct {
	Path   string   `json:"path"`
	State  string   `json:"state" enum:"the same,changed,gone,added" doc:"From the first run to the other"`
	Before *RunFile `json:"before,omitempty"`
	After  *RunFile `json:"after,omitempty"`
}

// FileRule says how long the files of a project's runs stay.
type FileRule struct {
	Days float64 `json:"days" minimum:"1" maximum:"36500" doc:"After they were written. Those of runs with a pinned checkpoint stay"`
}

// FileRuleAnswer is a project's rule; absent: they stay.
type FileRuleAnswer struct {
	Rule *FileRule `json:"rule,omitempty"`
}

// NewFileRule sets it.
type NewFileRule struct {
	ProjectInput
	Body FileRule
}

const runFilesPath = "/projects/{project}/runs/{number}/files"

// The operations on files of runs.
var (
	AddRunFile = declare[NewRunFile, RunFile](Spec{ID: "add-run-file", Method: "POST", Path: runFilesPath,
		Summary: "Add a file that a run wrote", Access: Member, Own: Recorder, Recorders: true, Long: true, Status: 201,
		MaxBody: 2 << 20})
	ListRunFiles = declare[RunFilesInput, Page[RunFile]](Spec{ID: "run-files", Method: "GET", Path: runFilesPath,
		Summary: "List the files that a run wrote, by path", Access: Reader})
	GetRunFile = declare[RunFileContentInput, None](Spec{ID: "run-file", Method: "GET", Path: runFilesPath + "/content",
		Summary: "Download a file that a run wrote (Range works)", Access: Reader, Status: 200,
		Media: files, Parts: true})
	ViewRunFile = declare[RunFileViewInput, RunFileView](Spec{ID: "run-file-view", Method: "GET",
		Path: runFilesPath + "/view", Summary: "Show lines or rows of a file that a run wrote", Access: Reader,
		Long: true})
	DropRunFile = declare[RunFileInput, None](Spec{ID: "drop-run-file", Method: "DELETE", Path: runFilesPath,
		Summary: "Let the bytes of a file go", Access: Member, Own: Recorder})
	GetRunFilesDifference = declare[RunFilesDifferenceInput, RunFilesDifference](Spec{ID: "run-files-difference",
		Method: "GET", Path: runFilesPath + "/difference", Summary: "Compare the files of two runs", Access: Reader,
		Long: true})
	GetFileRule = declare[ProjectInput, FileRuleAnswer](Spec{ID: "file-rule", Method: "GET",
		Path: "/projects/{project}/file-rule", Summary: "Say how long files of runs stay", Access: Reader})
	SetFileRule = declare[NewFileRule, FileRuleAnswer](Spec{ID: "set-file-rule", Method: "PUT",
		Path: "/projects/{project}/file-rule", Summary: "Set how long files of runs stay", Access: Owner})
	DropFileRule = declare[ProjectInput, None](Spec{ID: "drop-file-rule", Method: "DELETE",
		Path: "/projects/{project}/file-rule", Summary: "Let files of runs stay", Access: Owner})
)
