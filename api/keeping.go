package api

import (
	"time"

	"kembrel/core/keep"
)

// KeepRule says which checkpoints of a run stay.
type KeepRule struct{ keep.Rule }

// KeepState is the keep rule of a project or a run.
type KeepState struct {
	Rule *KeepRule `json:"rule,omitempty" doc:"Absent: all checkpoints stay"`
	Said string    `json:"said" doc:"The rule as people say it"`
	From string    `json:"from" enum:"project,run,none" doc:"Whose rule it is"`
}

// KeepRuleInput sets the keep rule of a project.
type KeepRuleInput struct {
	ProjectInput
	Body KeepRule
}

// RunKeepRuleInput sets the keep rule of a run, whatever its project's is.
type RunKeepRuleInput struct {
	RunInput
	Body struct {
		None bool      `json:"none,omitempty" doc:"True: all checkpoints of this run stay"`
		Rule *KeepRule `json:"rule,omitempty"`
	}
}

// TryKeepInput asks what would go by a rule.
type TryKeepInput struct {
	ProjectInput
	Body struct {
		Rule *KeepRule `json:"rule,omitempty" doc:"Absent: the rules that are set"`
		Runs []int     `json:"runs,omitempty" maxItems:"1000" doc:"Absent: all"`
	}
}

// KeepTried is what would go and what would stay. Nothing has gone.
type KeepTried struct {
	Said        string    `json:"said" doc:"The rule as people say it"`
	Says        string    `json:"says" doc:"What it comes to"`
	Checkpoints []KeptOne `json:"checkpoints" doc:"By run and step; at most 10,000"`
	Going       int       `json:"going"`
	Staying     int       `json:"staying"`
	Frees       int64     `json:"frees" doc:"Bytes as stored that are held by those that go and by nothing else"`
	Left        int64     `json:"left" doc:"Bytes as stored that those hold that stay"`
}

// KeptOne is what a rule says of one checkpoint.
type KeptOne struct {
	Address string    `json:"address"`
	Stays   bool      `json:"stays"`
	Why     []string  `json:"why,omitempty" doc:"Why it stays"`
	Step    int64     `json:"step"`
	Epoch   Float     `json:"epoch"`
	Figure  Float     `json:"figure" doc:"Of the objective; NaN: none"`
	Saved   time.Time `json:"saved"`
	Size    int64     `json:"size" doc:"Bytes of its files"`
	Frees   int64     `json:"frees" doc:"Bytes as stored that it alone holds"`
}

// PinInput pins a checkpoint, or no longer.
type PinInput struct {
	CheckpointInput
	Body struct {
		Pinned bool `json:"pinned"`
	}
}

// DropInput drops a checkpoint after a grace period.
type DropInput struct {
	CheckpointInput
	Days float64 `query:"days" minimum:"0" maximum:"365" default:"7" doc:"Until its bytes go; until then it can be brought back"`
}

// Sizes are the bytes that checkpoints take.
type Sizes struct {
	Checkpoints int   `json:"checkpoints" doc:"Those that are held"`
	Whole       int64 `json:"whole" doc:"Bytes of their files, each counted whole"`
	Bytes       int64 `json:"bytes" doc:"Bytes of their different chunks"`
	Stored      int64 `json:"stored" doc:"The same as they are packed"`
	Own         int64 `json:"own" doc:"Of stored: held by nothing else; dropping them all frees it"`
	Going       int   `json:"going,omitempty" doc:"Checkpoints that go after their grace period"`
	Dropped     int   `json:"dropped,omitempty" doc:"Checkpoints that went"`
	Pinned      int   `json:"pinned,omitempty"`
}

// SizedPart is a project, or a run, with the bytes of its checkpoints.
type SizedPart struct {
	Address string `json:"address"`
	Title   string `json:"title"`
	Sizes
}

// StorageInput asks for the storage of all projects, or of the runs of one.
type StorageInput struct {
	Project string `query:"project" maxLength:"40" doc:"Absent: by project"`
}

// StorageSizes is what takes how many bytes, the most first.
type StorageSizes struct {
	Says  string      `json:"says"`
	Total Sizes       `json:"total"`
	Items []SizedPart `json:"items" doc:"At most 1,000"`
	Loose int64       `json:"loose" doc:"Bytes as stored that no checkpoint holds any more, and that cleaning frees within about a day"`
	As    time.Time   `json:"as_of"`

	Beside []SizedKind `json:"beside,omitempty" doc:"What is kept that is no checkpoint; its bytes are not among those above"`
}

// SizedKind is what things of a kind take.
type SizedKind struct {
	Kind  string `json:"kind" enum:"predictions,files,editions" doc:"Of editions, those whose run is deleted"`
	Count int64  `json:"count"`
	Bytes int64  `json:"bytes" doc:"Before what is equal is kept once, and packed"`
}

// The operations on what stays.
var (
	GetKeepRule = declare[ProjectInput, KeepState](Spec{ID: "keep-rule", Method: "GET",
		Path: "/projects/{project}/keep-rule", Summary: "The keep rule of a project", Access: Reader})
	SetKeepRule = declare[KeepRuleInput, KeepState](Spec{ID: "set-keep-rule", Method: "PUT",
		Path: "/projects/{project}/keep-rule", Summary: "Set the keep rule of a project", Access: Owner})
	DropKeepRule = declare[ProjectInput, KeepState](Spec{ID: "drop-keep-rule", Method: "DELETE",
		Path: "/projects/{project}/keep-rule", Summary: "Let all checkpoints of a project stay",
		Access: Owner, Status: 200})
	GetRunKeepRule = declare[RunInput, KeepState](Spec{ID: "run-keep-rule", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/keep-rule",
		Summary: "The keep rule that holds for a run", Access: Reader})
	SetRunKeepRule = declare[RunKeepRuleInput, KeepState](Spec{ID: "set-run-keep-rule", Method: "PUT",
		Path: "/projects/{project}/runs/{number}/keep-rule", Summary: "Set a run's own keep rule",
		Access: Member, Own: Recorder})
	DropRunKeepRule = declare[RunInput, KeepState](Spec{ID: "drop-run-keep-rule", Method: "DELETE",
		Path: "/projects/{project}/runs/{number}/keep-rule", Summary: "Let the project's keep rule hold again",
		Access: Member, Own: Recorder, Status: 200})
	TryKeepRule = declare[TryKeepInput, KeepTried](Spec{ID: "try-keep-rule", Method: "POST",
		Path: "/projects/{project}/keep-rule/try", Summary: "Show what would go and what it frees",
		Access: Reader, Status: 200})
	PinCheckpoint = declare[PinInput, Checkpoint](Spec{ID: "pin-checkpoint", Method: "PUT",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}/pin",
		Summary: "Keep a checkpoint from being dropped, or no longer", Access: Member, Own: Recorder})
	DropCheckpoint = declare[DropInput, Checkpoint](Spec{ID: "drop-checkpoint", Method: "DELETE",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}",
		Summary: "Drop a checkpoint's bytes after a grace period", Access: Owner, Own: Recorder, Status: 200})
	KeepCheckpoint = declare[CheckpointInput, Checkpoint](Spec{ID: "keep-checkpoint", Method: "POST",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}/keep",
		Summary: "Bring a checkpoint back that is about to be dropped", Access: Member, Own: Recorder, Status: 200})
	GetStorage = declare[StorageInput, StorageSizes](Spec{ID: "storage", Method: "GET", Path: "/storage",
		Summary: "What takes how many bytes", Access: SignedIn})
)
