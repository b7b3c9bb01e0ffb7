package api

import (
	"time"

	"kembrel/core/verdict"
)

// Verdict is what a run's curves say (docs/verdicts.md), with the numbers that led to it; NaN where unknown.
type Verdict struct {
	Kind    string   `json:"kind" enum:",too short to tell,improving,converged,underfitting,overfitting,diverged,too noisy to tell" doc:"Empty: no reading yet"`
	Said    string   `json:"said" doc:"The verdict as a sentence"`
	By      string   `json:"by,omitempty" enum:"epoch,step" doc:"Unit of since"`
	Since   Float    `json:"since" doc:"Where what the verdict names began"`
	Train   Float    `json:"train" doc:"Change of the training curve since then, as a share"`
	Val     Float    `json:"val" doc:"Change of the objective since then, as a share"`
	Gap     Float    `json:"gap" doc:"Validation minus training at the end"`
	Noise   Float    `json:"noise" doc:"Standard deviation of the objective around its trend"`
	Unseen  Float    `json:"unseen" doc:"Change that would not be told from the noise, as a share of the error that is left"`
	Learnt  Float    `json:"learnt" doc:"How far the objective has come, as a share of where it began"`
	Slope   Float    `json:"slope" doc:"Change of the objective lately, per epoch or reading"`
	Places  int      `json:"places" doc:"Epochs or stretches of steps judged"`
	Pace    Float    `json:"pace" doc:"Seconds per epoch"`
	Dispute *Dispute `json:"dispute,omitempty" doc:"Set where a person disagrees"`
}

// Dispute is a person's disagreement with a verdict.
type Dispute struct {
	Kind   string    `json:"kind" doc:"The verdict that is disputed"`
	Reason string    `json:"reason"`
	Who    string    `json:"who"`
	At     time.Time `json:"at"`
}

// DisputeInput disputes a verdict.
type DisputeInput struct {
	RunInput
	Body struct {
		Reason string `json:"reason" minLength:"1" maxLength:"2000"`
	}
}

// Objective is the curve by which runs are judged, and its direction.
type Objective = verdict.Objective

// StopRule says when a run is to end early.
type StopRule = verdict.StopRule

// StopState is the stop rule of a run and what it has come to.
type StopState struct {
	Rule    *StopRule `json:"rule,omitempty" doc:"Absent: none"`
	Said    string    `json:"said" doc:"The rule as people say it"`
	From    string    `json:"from" enum:"project,run,none" doc:"Whose rule it is"`
	Left    Float     `json:"left" doc:"Epochs of patience left; NaN where no reading has come or there is no rule"`
	Stopped *Stopped  `json:"stopped,omitempty" doc:"Set when the rule has said stop"`
}

// Stopped is where a rule said stop.
type Stopped struct {
	Why        string `json:"why"`
	Who        string `json:"who,omitempty" doc:"The person who asked for it; absent: the stop rule did"`
	End        bool   `json:"end,omitempty" doc:"A recorder that started the program ends it, where it goes on"`
	At         Figure `json:"at" doc:"The reading at which it did"`
	Best       Figure `json:"best" doc:"The best reading until then"`
	Checkpoint string `json:"checkpoint,omitempty" doc:"The checkpoint nearest at or before the best reading"`
}

// StopInput asks a run that is recorded to stop.
type StopInput struct {
	RunInput
	Body struct {
		Why    string `json:"why,omitempty" maxLength:"1000"`
		Advise bool   `json:"advise,omitempty" doc:"The program is told and nothing else; otherwise a recorder that started it ends it, where it goes on"`
	}
}

// RuleInput sets the stop rule of a project.
type RuleInput struct {
	ProjectInput
	Body StopRule
}

// RunRuleInput sets the stop rule of a run, whatever its project's is.
type RunRuleInput struct {
	RunInput
	Body struct {
		None bool      `json:"none,omitempty" doc:"True: no rule stops this run"`
		Rule *StopRule `json:"rule,omitempty"`
	}
}

// TryInput asks where a rule would have stopped runs.
type TryInput struct {
	ProjectInput
	Body struct {
		Rule StopRule `json:"rule"`
		Runs []int    `json:"runs" minItems:"1" maxItems:"100"`
	}
}

// Tried is what a rule would have done to runs.
type Tried struct {
	Said string     `json:"said"`
	Runs []TriedRun `json:"runs"`
}

// TriedRun is what it would have done to one.
type TriedRun struct {
	Address     string  `json:"address"`
	Stop        *Figure `json:"stop,omitempty" doc:"Where it would have stopped; absent: it would not have"`
	Best        *Figure `json:"best,omitempty" doc:"The best reading until then"`
	Later       *Figure `json:"later,omitempty" doc:"The best reading of the whole run"`
	SavedEpochs Float   `json:"saved_epochs"`
	SavedTime   Float   `json:"saved_seconds"`
	Lost        Float   `json:"lost" doc:"By how much the best reading would have been worse"`
}

// The operations on verdicts and stop rules.
var (
	DisputeVerdict = declare[DisputeInput, Verdict](Spec{ID: "dispute-verdict", Method: "PUT",
		Path: "/projects/{project}/runs/{number}/verdict/dispute", Summary: "Disagree with a verdict",
		Access: Member, Own: Recorder})
	UndisputeVerdict = declare[RunInput, Verdict](Spec{ID: "undispute-verdict", Method: "DELETE",
		Path: "/projects/{project}/runs/{number}/verdict/dispute", Summary: "Let a verdict stand again",
		Access: Member, Own: Recorder})
	SetStopRule = declare[RuleInput, StopState](Spec{ID: "set-stop-rule", Method: "PUT",
		Path: "/projects/{project}/stop-rule", Summary: "Set the stop rule of a project's runs", Access: Owner})
	GetStopRule = declare[ProjectInput, StopState](Spec{ID: "stop-rule", Method: "GET",
		Path: "/projects/{project}/stop-rule", Summary: "Show the stop rule of a project", Access: Reader})
	DropStopRule = declare[ProjectInput, StopState](Spec{ID: "drop-stop-rule", Method: "DELETE",
		Path: "/projects/{project}/stop-rule", Summary: "Take away the stop rule of a project", Access: Owner})
	StopRun = declare[StopInput, StopState](Spec{ID: "stop-run", Method: "PUT",
		Path: "/projects/{project}/runs/{number}/stop", Summary: "Ask a run that is recorded to stop",
		Access: Member, Own: Recorder})
	SetRunRule = declare[RunRuleInput, StopState](Spec{ID: "set-run-stop-rule", Method: "PUT",
		Path: "/projects/{project}/runs/{number}/stop-rule", Summary: "Set the stop rule of a run, also while it runs",
		Access: Member, Own: Recorder})
	DropRunRule = declare[RunInput, StopState](Spec{ID: "drop-run-stop-rule", Method: "DELETE",
		Path:    "/projects/{project}/runs/{number}/stop-rule",
		Summary: "Let the project's stop rule hold for a run again", Access: Member, Own: Recorder})
	TryStopRule = declare[TryInput, Tried](Spec{ID: "try-stop-rule", Method: "POST",
		Path:    "/projects/{project}/stop-rule/try",
		Summary: "Show where a stop rule would have stopped runs", Access: Reader})
)
