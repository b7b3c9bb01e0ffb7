package api

import (
	"time"

	"kembrel/core/catalogue"
)

// EnteringRule is a rule by which runs of a model's project enter the model by themselves, in the name of whoever made
// it.
type EnteringRule struct {
	Number int `json:"number"`
	catalogue.Entering
	Who     string      `json:"who"`
	Created time.Time   `json:"created"`
	Trouble RuleTrouble `json:"trouble,omitempty" enum:"author,standing,filter,fault" doc:"Why it does nothing at the moment: whoever made it may not enter editions any more; there is no such standing; the filter cannot be asked any more; something is broken, which is in the service's log"`
	Idle    string      `json:"idle,omitempty" doc:"The same in a sentence"`
	Says    string      `json:"says" doc:"The rule in a sentence"`
	Did     []RuleRun   `json:"did" doc:"What it made of runs, the latest first, 50 at most"`
}

// RuleTrouble is a kind of what keeps a rule from working.
type RuleTrouble string

// The kinds.
const (
	TroubleAuthor   RuleTrouble = "author"
	TroubleStanding RuleTrouble = "standing"
	TroubleFilter   RuleTrouble = "filter"
	TroubleFault    RuleTrouble = "fault"
)

// RuleRun is what a rule made, or would have made, of a run.
type RuleRun struct {
	Run     string         `json:"run" example:"vessels/17"`
	Ended   time.Time      `json:"ended" doc:"When the run ended"`
	Fate    catalogue.Fate `json:"fate" enum:"enters,not-better,within-noise,noise-unknown,another-better,no-figure,no-checkpoint,other-data,other-objective,in-already"`
	Origin  string         `json:"origin,omitempty" doc:"The checkpoint" example:"vessels/17@s480.leg1"`
	Edition int            `json:"edition,omitempty" doc:"That it became, or is"`
	Curve   string         `json:"curve,omitempty" doc:"Of the figures"`
	Figure  *Float         `json:"figure,omitempty"`
	InUse   int            `json:"in_use,omitempty" doc:"Edition that it was compared with; absent: none was in use"`
	Against *Float         `json:"against,omitempty" doc:"Its figure"`
	Better  *Float         `json:"better,omitempty" doc:"By how much it is better; negative: worse"`
	Low     *Float         `json:"low,omitempty" doc:"95 % range of that, as the noise between seeds has it"`
	High    *Float         `json:"high,omitempty"`
	Seeds   int            `json:"seeds,omitempty" doc:"Runs that the noise was told by"`
	Says    string         `json:"says"`
}

// RulePast is what a rule would have done.
type RulePast struct {
	Says string    `json:"says"`
	Runs []RuleRun `json:"runs" doc:"In the order in which they ended, the latest 200 at most"`
}

// NewRule makes a rule, or tries it.
type NewRule struct {
	ModelInput
	Body catalogue.Entering
}

// RuleOfModel names a rule.
type RuleOfModel struct {
	ModelInput
	Rule int `path:"rule" minimum:"1" maximum:"2147483647"`
}

// The operations on rules by which runs enter models.
var (
	ListRules = declare[ModelInput, Page[EnteringRule]](Spec{ID: "rules", Method: "GET", Path: "/models/{model}/rules",
		Summary: "List the rules by which runs enter a model, and what they did", Access: Reader})
	AddRule = declare[NewRule, EnteringRule](Spec{ID: "add-rule", Method: "POST", Path: "/models/{model}/rules",
		Summary: "Have runs that end from now on enter a model by a rule", Access: Owner, Status: 201})
	TryRule = declare[NewRule, RulePast](Spec{ID: "try-rule", Method: "POST", Path: "/models/{model}/rules/try",
		Summary: "Show what a rule would have done with the runs that there are", Access: Member, Status: 200})
	ClearRule = declare[RuleOfModel, None](Spec{ID: "clear-rule", Method: "DELETE",
		Path: "/models/{model}/rules/{rule}", Summary: "Have no run enter a model by a rule any more", Access: Owner})
)
