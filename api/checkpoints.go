package api

import "time"

// Checkpoint is an immutable set of parts saved at one step.
type Checkpoint struct {
	Address    string           `json:"address" example:"vessels/17@e12" doc:"By epoch, or by step where another checkpoint has the epoch"`
	Leg        int              `json:"leg"`
	Step       int64            `json:"step"`
	Epoch      Float            `json:"epoch"`
	Why        string           `json:"why,omitempty" doc:"Why it was saved"`
	Figures    map[string]Float `json:"figures,omitempty" doc:"Last value of each curve at that moment"`
	Saved      time.Time        `json:"saved"`
	Size       int64            `json:"size" doc:"Bytes of all files"`
	Best       bool             `json:"best" doc:"Nearest at or before the best reading of the objective; where that was dropped, the best figure of those held"`
	Last       bool             `json:"last"`
	Pinned     bool             `json:"pinned,omitempty" doc:"No rule drops it"`
	DeleteAt   *time.Time       `json:"delete_at,omitempty" doc:"When its bytes are deleted; until then it can be brought back"`
	Dropped    *time.Time       `json:"dropped,omitempty" doc:"When its bytes went; its figures and digests stay"`
	WhyDeleted string           `json:"why_deleted,omitempty" doc:"The rule or the person that said so"`
	ByRule     bool             `json:"by_rule,omitempty" doc:"A rule said so"`
	Stored     int64            `json:"stored,omitempty" doc:"Bytes of its different chunks as they are packed"`
	Frees      int64            `json:"frees,omitempty" doc:"Of these, what nothing else holds: dropping it frees so much"`
	UsableFor  string           `json:"usable_for" enum:"resume,use,weights only,nothing" doc:"What it is good for"`
	Lacks      []string         `json:"lacks,omitempty" doc:"Parts that resuming needs and it does not have"`
	Replaced   bool             `json:"replaced,omitempty" doc:"A later leg began before its step, so it is not of the run's present course"`
	Verified   []Verification   `json:"verified,omitempty" doc:"What evaluations of the restored checkpoint gave, latest first"`
	Warnings   []string         `json:"warnings,omitempty" doc:"What a person who counts on it should know"`
	Parts      []string         `json:"parts"`
	Files      []File           `json:"files"`
}

// Fixed is the part of an address behind the "@" that means this checkpoint whatever comes after it.
func (c Checkpoint) Fixed() string { return At{Kind: AtStep, Step: c.Step, Leg: c.Leg}.String() }

// File is a file of a part.
type File struct {
	Part   string  `json:"part" maxLength:"200" example:"weights"`
	Path   string  `json:"path" maxLength:"4096" example:"weights.safetensors"`
	Size   int64   `json:"size" doc:"Bytes"`
	Digest string  `json:"digest" maxLength:"80" example:"b3:0f..." doc:"BLAKE3-256 of the whole"`
	Chunks []Piece `json:"chunks,omitempty" maxItems:"300000" doc:"In order, without gaps"`
}

// Piece is a chunk of a file.
type Piece struct {
	Digest string `json:"digest" maxLength:"80"`
	Size   int64  `json:"size" minimum:"1" maximum:"4194304"`
}

// CheckpointInput names a checkpoint.
type CheckpointInput struct {
	RunInput
	At string `path:"at" maxLength:"40" example:"best" doc:"e12, s4800, best or last"`
}

// FileInput names a file of a checkpoint.
type FileInput struct {
	CheckpointInput
	Path  string `query:"path" required:"true" maxLength:"1000"`
	Range string `header:"Range"`
}

// NewCheckpoint commits a checkpoint whose chunks have been sent. Sent again with the same key it answers the same one.
type NewCheckpoint struct {
	LegInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Step    int64            `json:"step" minimum:"0"`
		Epoch   Float            `json:"epoch"`
		Why     string           `json:"why,omitempty" maxLength:"200"`
		Figures map[string]Float `json:"figures,omitempty" maxProperties:"1000"`
		Saved   time.Time        `json:"saved"`
		Files   []File           `json:"files" minItems:"1" maxItems:"10000"`
	}
}

// DigestList is a list of chunk digests.
type DigestList struct {
	Digests []string `json:"digests" maxItems:"10000"`
}

// DigestListInput carries one.
type DigestListInput struct{ Body DigestList }

// ChunkInput carries a chunk.
type ChunkInput struct {
	Digest  string `path:"digest" maxLength:"80"`
	RawBody []byte `contentType:"application/octet-stream"`
}

// The operations on checkpoints.
var (
	ListCheckpoints = declare[RunInput, Page[Checkpoint]](Spec{ID: "checkpoints", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/checkpoints",
		Summary: "List checkpoints, latest first", Access: Reader})
	GetCheckpoint = declare[CheckpointInput, Checkpoint](Spec{ID: "checkpoint", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}",
		Summary: "Show a checkpoint with the chunks of its files", Access: Reader})
	CommitCheckpoint = declare[NewCheckpoint, Checkpoint](Spec{ID: "commit-checkpoint", Method: "POST",
		Path: "/projects/{project}/runs/{number}/legs/{leg}/checkpoints", Summary: "Commit a checkpoint",
		Access: Member, Own: Recorder, Long: true, Recorders: true, Status: 201, MaxBody: 32 << 20})
	GetFile = declare[FileInput, None](Spec{ID: "checkpoint-file", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}/file",
		Summary: "Download a file of a checkpoint (Range works)", Access: Reader, Status: 200,
		Media: []string{"application/octet-stream"}, Parts: true})
	MissingChunks = declare[DigestListInput, DigestList](Spec{ID: "missing-chunks", Method: "POST",
		Path: "/chunks/missing", Summary: "Ask which chunks are not here yet", Access: Recorder, Anywhere: true,
		Recorders: true, MaxBody: 2 << 20})
	PutChunk = declare[ChunkInput, None](Spec{ID: "put-chunk", Method: "PUT", Path: "/chunks/{digest}",
		Summary: "Send a chunk", Access: Recorder, Anywhere: true, Long: true, Recorders: true, MaxBody: 4<<20 + 1})
)
