package api

import "time"

// Evaluation is what a program found of a checkpoint on some data, run by `kembrel evaluate` (docs/evaluations.md).
type Evaluation struct {
	Run        string            `json:"run" example:"vessels/3"`
	Number     int               `json:"number" doc:"In the run, from 1"`
	Checkpoint string            `json:"checkpoint" example:"vessels/3@e13"`
	Step       int64             `json:"step"`
	Epoch      Float             `json:"epoch"`
	Data       string            `json:"data,omitempty" example:"hydrophone#3:test" doc:"The split of a snapshot that it was evaluated on"`
	Split      string            `json:"split,omitempty" example:"test"`
	Figures    []EvaluatedFigure `json:"figures"`
	Verified   *Verification     `json:"verified,omitempty" doc:"Of kembrel verify: how the figures compare with those recorded"`
	Sheets     []EvaluatedSheet  `json:"sheets,omitempty" doc:"Its prediction sheets"`
	Notes      []string          `json:"notes,omitempty" doc:"What went wrong, and what the program remarked"`
	Command    []string          `json:"command,omitempty"`
	Host       string            `json:"host"`
	Who        string            `json:"who,omitempty"`
	Started    *time.Time        `json:"started,omitempty"`
	Ended      time.Time         `json:"ended"`
	Says       string            `json:"says" doc:"In a sentence"`
}

// EvaluatedFigure is a figure of an evaluation.
type EvaluatedFigure struct {
	Name     string   `json:"name" example:"accuracy"`
	Value    Float    `json:"value"`
	Low      *float64 `json:"low,omitempty" doc:"Of the 95 % interval"`
	High     *float64 `json:"high,omitempty"`
	Computed bool     `json:"computed,omitempty" doc:"By the service, from the prediction sheet; otherwise the program said so"`
}

// EvaluatedSheet is a prediction sheet of an evaluation.
type EvaluatedSheet struct {
	Number   int      `json:"number" doc:"Of the sheet in the run"`
	Split    string   `json:"split"`
	Examples int64    `json:"examples"`
	Alarms   []string `json:"alarms,omitempty" doc:"Kinds"`
}

// Verification says how the figures of an evaluation compare with those recorded when the checkpoint was saved.
type Verification struct {
	Same    bool             `json:"same" doc:"Every figure that was recorded and is reported agrees within the tolerance"`
	Says    string           `json:"says" example:"verified on hydra-2 at 2026-11-23 10:12 UTC: loss.val 0.2144 = 0.2144"`
	Figures []VerifiedFigure `json:"figures"`
	At      time.Time        `json:"at"`
	Who     string           `json:"who,omitempty"`
	Host    string           `json:"host"`
	Command []string         `json:"command,omitempty"`
}

// VerifiedFigure is one figure: as recorded, and as found.
type VerifiedFigure struct {
	Curve     string `json:"curve"`
	Recorded  *Float `json:"recorded,omitempty" doc:"Absent where none was recorded"`
	Found     Float  `json:"found"`
	Tolerance Float  `json:"tolerance" doc:"Largest difference that counts as the same; 0: exact"`
	Same      bool   `json:"same"`
}

// NewEvaluation tells what a program found. Sent again with the same key it answers the same one, and notes that are
// new are added.
type NewEvaluation struct {
	CheckpointInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Data    string           `json:"data,omitempty" maxLength:"200" example:"hydrophone#3:test" doc:"The split of a snapshot, or what the run used data for, such as val"`
		Figures map[string]Float `json:"figures" maxProperties:"1000" doc:"By curve, as the program said"`
		Verify  *Float           `json:"verify,omitempty" doc:"Compare the figures with those recorded: largest difference that counts as the same; 0: exact"`
		Command []string         `json:"command,omitempty" maxItems:"1000"`
		Host    string           `json:"host,omitempty" maxLength:"255"`
		Notes   []string         `json:"notes,omitempty" maxItems:"100"`
		Started *time.Time       `json:"started,omitempty"`
		Ended   *time.Time       `json:"ended,omitempty" doc:"Absent: now"`
	}
}

// EvaluationsInput lists the evaluations of a run.
type EvaluationsInput struct {
	RunInput
	PageInput
	At   string `query:"at" maxLength:"40" doc:"Only of this checkpoint: best, e12"`
	Data string `query:"data" maxLength:"200" doc:"Only on this: hydrophone#3:test, or a split where no data was named"`
}

// EvaluationInput names an evaluation.
type EvaluationInput struct {
	RunInput
	Evaluation int `path:"evaluation" minimum:"1" maximum:"2147483647"`
}

// The operations on evaluations.
var (
	AddEvaluation = declare[NewEvaluation, Evaluation](Spec{ID: "add-evaluation", Method: "POST",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}/evaluations",
		Summary: "Tell what a program found of a checkpoint", Access: Member, Own: Recorder, Recorders: true,
		Status: 201})
	ListEvaluations = declare[EvaluationsInput, Page[Evaluation]](Spec{ID: "evaluations", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/evaluations",
		Summary: "List the evaluations of a run's checkpoints, latest first", Access: Reader})
	GetEvaluation = declare[EvaluationInput, Evaluation](Spec{ID: "evaluation", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/evaluations/{evaluation}",
		Summary: "Show an evaluation", Access: Reader})
)
