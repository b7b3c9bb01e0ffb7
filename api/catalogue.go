package api

import (
	"encoding/json"
	"time"

	"kembrel/core/catalogue"
)

// Model is a model in the catalogue: for one purpose, with numbered editions and named standings.
type Model struct {
	Name      string     `json:"name" example:"vessel-classifier"`
	Title     string     `json:"title"`
	Purpose   string     `json:"purpose" doc:"What it is for, as Markdown"`
	Limits    string     `json:"limits,omitempty" doc:"What it cannot do, as Markdown"`
	Contact   string     `json:"contact,omitempty" doc:"Whom its users can ask"`
	Project   string     `json:"project" doc:"Whose roles say who may do what"`
	Who       string     `json:"who"`
	Created   time.Time  `json:"created"`
	Editions  int        `json:"editions"`
	Standings []Standing `json:"standings" doc:"In their order"`
	Waiting   []Asking   `json:"waiting" doc:"Editions that are asked for a standing and do not have it yet"`
	Consumers []Consumer `json:"consumers" doc:"Who says that they use an edition"`
	Says      ModelSays  `json:"says"`
	History   []Holding  `json:"history,omitempty" doc:"Who had which standing, the latest first; absent in lists"`
	Ended     []Asking   `json:"ended,omitempty" doc:"What no longer waits, the latest first; absent in lists"`
	Latest    []Edition  `json:"latest,omitempty" doc:"The latest editions, without their files; absent in lists"`
	May       *ModelMay  `json:"may,omitempty" doc:"What whoever asks may do; absent in lists"`
}

// ModelMay says what one may do with a model, and who may do more.
type ModelMay struct {
	Enter     bool     `json:"enter" doc:"Editions, and ask for standings"`
	SignOff   bool     `json:"sign_off"`
	Change    bool     `json:"change" doc:"Its text and its standings"`
	Approvers []string `json:"approvers" doc:"People who may sign off"`
}

// ModelSays are the answers that a model's page opens with.
type ModelSays struct {
	InUse   string `json:"in_use" doc:"What is in use?"`
	Waiting string `json:"waiting,omitempty" doc:"What waits, and for whom"`
	Where   string `json:"where" doc:"What runs where?"`
}

// Standing is what an edition may be at the moment, and which one is.
type Standing struct {
	catalogue.Rule
	Address string     `json:"address" example:"vessel-classifier/in-use"`
	Edition int        `json:"edition,omitempty" doc:"Number of the edition that has it; absent: none has"`
	Origin  string     `json:"origin,omitempty" doc:"The checkpoint that it is"`
	Figure  string     `json:"figure,omitempty" doc:"Its figure by the objective, when it was entered"`
	Since   *time.Time `json:"since,omitempty"`
	Who     string     `json:"who,omitempty" doc:"Who gave it the standing"`
	Why     string     `json:"why,omitempty"`
	Before  int        `json:"before,omitempty" doc:"The edition that had it before"`

	SignOffs []Signed `json:"sign_offs,omitempty" doc:"Who had signed off when it took effect"`
}

// Holding is a stretch of time in which an edition had a standing.
type Holding struct {
	Standing string     `json:"standing"`
	Edition  int        `json:"edition,omitempty" doc:"Absent: none had it"`
	Since    time.Time  `json:"since"`
	Until    *time.Time `json:"until,omitempty" doc:"Absent: to this day"`
	Who      string     `json:"who"`
	SignOffs []Signed   `json:"sign_offs,omitempty" doc:"Who had signed off when it took effect"`
	Why      string     `json:"why,omitempty"`
}

// Asking is an edition that is asked for a guarded standing.
type Asking struct {
	ID       int64            `json:"id"`
	Standing string           `json:"standing"`
	Edition  int              `json:"edition"`
	Who      string           `json:"who"`
	Why      string           `json:"why,omitempty"`
	Asked    time.Time        `json:"asked"`
	SignOffs []SignOff        `json:"sign_offs"`
	Needs    *catalogue.Rule  `json:"needs,omitempty" doc:"The rule that holds for it: the standing's, or a stricter one by which it was asked for"`
	Lacks    []catalogue.Lack `json:"lacks,omitempty" doc:"What it waits for"`
	Says     string           `json:"says" doc:"The same in a sentence, or what became of it"`
	Ended    *time.Time       `json:"ended,omitempty"`
	Outcome  string           `json:"outcome,omitempty" enum:"taken,withdrawn"`
	Ender    string           `json:"ender,omitempty"`
	Because  string           `json:"because,omitempty"`
}

// Signed is a sign-off that counted when an edition got a standing. It is kept for ever.
type Signed struct {
	Who string    `json:"who"`
	Why string    `json:"why"`
	At  time.Time `json:"at"`
}

// SignedFor is a sign-off with the standing (stage) it was for.
type SignedFor struct {
	Standing string `json:"standing"`
	Signed
}

// SignOff is one approver's, on an edition and its checks as they were.
type SignOff struct {
	Who       string     `json:"who"`
	Why       string     `json:"why"`
	At        time.Time  `json:"at"`
	Counts    bool       `json:"counts"`
	Withdrawn *time.Time `json:"withdrawn,omitempty"`
	Not       string     `json:"not,omitempty" enum:"withdrawn,checks,closed,own,role" doc:"Why it does not count: withdrawn; checks were reported since; the person is gone; it is of the one who asks; the person is no approver any more"`
}

// Edition is a checkpoint entered in the catalogue; it never changes, and is there when its run is gone.
type Edition struct {
	Address   string         `json:"address" example:"vessel-classifier#3"`
	Model     string         `json:"model"`
	Number    int            `json:"number"`
	Origin    string         `json:"origin" doc:"The checkpoint that was entered" example:"vessels/17@s480.leg1"`
	RunGone   bool           `json:"run_gone,omitempty" doc:"Its run is deleted; what was known of it stands here"`
	Facts     EditionFacts   `json:"facts"`
	Size      int64          `json:"size"`
	Why       string         `json:"why,omitempty"`
	Who       string         `json:"who"`
	Entered   time.Time      `json:"entered"`
	Standings []string       `json:"standings" doc:"That it has at the moment"`
	Checks    []EditionCheck `json:"checks" doc:"The latest outcome of each"`
	Warnings  []string       `json:"warnings,omitempty" doc:"What a person who counts on it should know"`
	Existed   bool           `json:"existed,omitempty" doc:"Answered to who entered it: the checkpoint was in the model before"`
	Files     []File         `json:"files,omitempty" doc:"Absent in lists"`
	Says      *EditionSays   `json:"says,omitempty" doc:"Absent in lists"`
	SignOffs  []SignedFor    `json:"sign_offs,omitempty" doc:"Who had signed off for each standing that it has or had; absent in lists"`

	tag string
}

// EntityTag is what the edition is told again by.
func (e *Edition) EntityTag() string { return e.tag }

// Tagged sets it.
func (e *Edition) Tagged(tag string) { e.tag = tag }

// EditionSays are the answers that an edition's page opens with.
type EditionSays struct {
	Better  string `json:"better" doc:"Is it better than the one in use?"`
	Changed string `json:"changed" doc:"What changed?"`
	Checked string `json:"checked" doc:"Has it been checked?"`
}

// EditionFacts are what was known of a checkpoint when it was entered.
type EditionFacts struct {
	Run       string                      `json:"run" example:"vessels/17"`
	Title     string                      `json:"title,omitempty"`
	Who       string                      `json:"who" doc:"Who made the run"`
	Started   time.Time                   `json:"started"`
	Step      int64                       `json:"step"`
	Epoch     Float                       `json:"epoch"`
	Objective Objective                   `json:"objective"`
	Figures   map[string]Float            `json:"figures,omitempty"`
	Measured  map[string]map[string]Float `json:"measured,omitempty" doc:"What evaluations of this checkpoint measured, by data and measure"`
	TrainedOn []string                    `json:"trained_on,omitempty" doc:"Data on which it was evaluated although examples of it were in its training"`
	UsableFor string                      `json:"usable_for"`
	Parts     []string                    `json:"parts"`
	Hyper     map[string]json.RawMessage  `json:"hyper,omitempty"`
	Data      map[string]string           `json:"data,omitempty" doc:"What it used for what"`
	Commit    string                      `json:"commit,omitempty"`
	Clean     *bool                       `json:"clean,omitempty"`
	Command   []string                    `json:"command,omitempty"`
}

// EditionCheck is a named outcome reported on an edition.
type EditionCheck struct {
	Name    string           `json:"name" example:"every class"`
	Passed  bool             `json:"passed"`
	Figures map[string]Float `json:"figures,omitempty"`
	Text    string           `json:"text,omitempty"`
	Link    string           `json:"link,omitempty"`
	Files   []CheckFile      `json:"files,omitempty" doc:"What came of it; edition-file downloads them"`
	Who     string           `json:"who"`
	At      time.Time        `json:"at"`
}

// CheckFile is a file that came of a check.
type CheckFile struct {
	Path   string `json:"path" example:"report.html"`
	Size   int64  `json:"size" doc:"Bytes"`
	Digest string `json:"digest" doc:"BLAKE3-256 of the whole"`
}

// Consumer is a system that says that it uses an edition.
type Consumer struct {
	Where   string    `json:"where" example:"harbour-north"`
	Edition int       `json:"edition"`
	Behind  int       `json:"behind" doc:"How many editions were in use after it, before the one that is now; 0: it is the one in use; -1: it was never in use"`
	Who     string    `json:"who"`
	Since   time.Time `json:"since"`
	Heard   time.Time `json:"heard"`
}

// ModelInput names a model.
type ModelInput struct {
	Model string `path:"model" maxLength:"40" example:"vessel-classifier"`
}

// NewModel makes a model.
type NewModel struct {
	Body struct {
		Name      string           `json:"name" maxLength:"40"`
		Title     string           `json:"title,omitempty" maxLength:"200"`
		Purpose   string           `json:"purpose,omitempty" maxLength:"20000"`
		Limits    string           `json:"limits,omitempty" maxLength:"20000"`
		Contact   string           `json:"contact,omitempty" maxLength:"2000"`
		Project   string           `json:"project" maxLength:"40"`
		Standings []catalogue.Rule `json:"standings,omitempty" maxItems:"20" doc:"Absent: in-use, guarded by one sign-off"`
	}
}

// ModelEdit changes a model; what is absent stays.
type ModelEdit struct {
	ModelInput
	Body struct {
		Title     *string          `json:"title,omitempty" maxLength:"200"`
		Purpose   *string          `json:"purpose,omitempty" maxLength:"20000"`
		Limits    *string          `json:"limits,omitempty" maxLength:"20000"`
		Contact   *string          `json:"contact,omitempty" maxLength:"2000"`
		Standings []catalogue.Rule `json:"standings,omitempty" maxItems:"20" doc:"All of them, in their order; one that has a history stays"`
	}
}

// NewEdition enters a checkpoint.
type NewEdition struct {
	ModelInput
	Body struct {
		Origin string `json:"origin" maxLength:"200" example:"vessels/17@best"`
		Why    string `json:"why,omitempty" maxLength:"2000"`
	}
}

// EditionInput names an edition.
type EditionInput struct {
	ModelInput
	Edition int `path:"edition" minimum:"1" maximum:"2147483647"`
}

// EditionsInput lists the editions of a model.
type EditionsInput struct {
	ModelInput
	PageInput
}

// EditionFileInput asks for a file of an edition, or of a check on it.
type EditionFileInput struct {
	EditionInput
	Path  string `query:"path" required:"true" maxLength:"1000"`
	Check string `query:"check" maxLength:"100" doc:"A file that came of this check, in its latest outcome; absent: one of the edition itself"`
	Range string `header:"Range"`
}

// StandingInput names a standing.
type StandingInput struct {
	ModelInput
	Standing    string `path:"standing" maxLength:"40" example:"in-use"`
	IfNoneMatch string `header:"If-None-Match" maxLength:"200"`
}

// Ask asks for a standing.
type Ask struct {
	ModelInput
	Standing string `path:"standing" maxLength:"40"`
	Body     struct {
		Edition   int    `json:"edition" minimum:"0" doc:"0: none is to have it any more"`
		InsteadOf *int   `json:"instead_of,omitempty" doc:"The edition that has it, as far as whoever asks knows; 0: none. Where another has it by now, nothing is done"`
		Why       string `json:"why,omitempty" maxLength:"2000"`
	}
}

// Asked says what came of asking.
type Asked struct {
	Taken  bool    `json:"taken" doc:"The edition has the standing"`
	Asking *Asking `json:"asking,omitempty" doc:"What it waits for, where it does"`
	Says   string  `json:"says"`
}

// GoBackInput gives a standing back to the edition that had it before.
type GoBackInput struct {
	ModelInput
	Standing string `path:"standing" maxLength:"40"`
	Body     struct {
		InsteadOf *int   `json:"instead_of,omitempty"`
		Why       string `json:"why" minLength:"1" maxLength:"2000"`
	}
}

// AskingInput names what waits.
type AskingInput struct {
	ModelInput
	Asking int64 `path:"asking" minimum:"1"`
}

// SignOffInput signs off.
type SignOffInput struct {
	AskingInput
	Body struct {
		Edition int    `json:"edition" minimum:"1" doc:"Which it is, as far as whoever signs knows"`
		Why     string `json:"why" minLength:"1" maxLength:"2000"`
	}
}

// EndAskingInput takes back that an edition was asked for a standing.
type EndAskingInput struct {
	AskingInput
	Why string `query:"why" maxLength:"2000"`
}

// NewEditionCheck reports an outcome.
type NewEditionCheck struct {
	EditionInput
	Body struct {
		Name    string           `json:"name" minLength:"1" maxLength:"100"`
		Passed  bool             `json:"passed"`
		Figures map[string]Float `json:"figures,omitempty" maxProperties:"100"`
		Text    string           `json:"text,omitempty" maxLength:"10000"`
		Link    string           `json:"link,omitempty" maxLength:"2000"`
		Files   []File           `json:"files,omitempty" maxItems:"20" doc:"What came of it, at most 1 GiB; their chunks are sent before"`
	}
}

// NewUse reports where an edition is used.
type NewUse struct {
	EditionInput
	Body struct {
		Where string `json:"where" minLength:"1" maxLength:"100"`
		Ended bool   `json:"ended,omitempty" doc:"It is used there no more"`
	}
}

// The operations on the catalogue.
var (
	ListModels = declare[PageInput, Page[Model]](Spec{ID: "models", Method: "GET", Path: "/models",
		Summary: "List models by name", Access: Reader, Anywhere: true})
	CreateModel = declare[NewModel, Model](Spec{ID: "create-model", Method: "POST", Path: "/models",
		Summary: "Make a model in the catalogue", Access: Owner, Anywhere: true, Status: 201})
	GetModel = declare[ModelInput, Model](Spec{ID: "model", Method: "GET", Path: "/models/{model}",
		Summary: "Show a model with its standings and their history", Access: Reader})
	ChangeModel = declare[ModelEdit, Model](Spec{ID: "change-model", Method: "PATCH", Path: "/models/{model}",
		Summary: "Change a model", Access: Owner})
	ListEditions = declare[EditionsInput, Page[Edition]](Spec{ID: "editions", Method: "GET",
		Path: "/models/{model}/editions", Summary: "List the editions of a model, the latest first", Access: Reader})
	AddEdition = declare[NewEdition, Edition](Spec{ID: "add-edition", Method: "POST", Path: "/models/{model}/editions",
		Summary: "Enter a checkpoint as an edition", Access: Member, Status: 201})
	GetEdition = declare[EditionInput, Edition](Spec{ID: "edition", Method: "GET",
		Path: "/models/{model}/editions/{edition}", Summary: "Show an edition", Access: Reader})
	GetEditionFile = declare[EditionFileInput, None](Spec{ID: "edition-file", Method: "GET",
		Path:    "/models/{model}/editions/{edition}/file",
		Summary: "Download a file of an edition, or of a check on it", Access: Reader,
		Status: 200, Long: true,
		Media: []string{"application/octet-stream"}, Parts: true})
	GetDescription = declare[EditionInput, Description](Spec{ID: "description", Method: "GET",
		Path:    "/models/{model}/editions/{edition}/description",
		Summary: "Describe an edition for those who use it", Access: Reader})
	ExportDescription = declare[DescriptionInput, None](Spec{ID: "export-description", Method: "GET",
		Path:    "/models/{model}/editions/{edition}/description/file",
		Summary: "Download the description of an edition", Access: Reader, Status: 200,
		Media: []string{"text/markdown", "text/html", "application/vnd.cyclonedx+json"}})
	GetStanding = declare[StandingInput, Edition](Spec{ID: "standing", Method: "GET",
		Path: "/models/{model}/standings/{standing}", Summary: "Show the edition that has a standing",
		Access: Reader})
	AskFor = declare[Ask, Asked](Spec{ID: "ask-for", Method: "PUT", Path: "/models/{model}/standings/{standing}",
		Summary: "Ask that an edition gets a standing; one that is not guarded it has at once", Access: Member})
	GoBack = declare[GoBackInput, Asked](Spec{ID: "go-back", Method: "POST",
		Path:    "/models/{model}/standings/{standing}/back",
		Summary: "Give a standing back to the edition that had it before", Access: Member})
	AddSignOff = declare[SignOffInput, Asked](Spec{ID: "sign-off", Method: "PUT",
		Path: "/models/{model}/askings/{asking}/sign-off", Summary: "Sign off an edition for a standing",
		Access: Approver})
	WithdrawSignOff = declare[AskingInput, Asked](Spec{ID: "withdraw-sign-off", Method: "DELETE",
		Path: "/models/{model}/askings/{asking}/sign-off", Summary: "Withdraw one's sign-off", Access: Reader,
		Status: 200})
	EndAsking = declare[EndAskingInput, None](Spec{ID: "withdraw-asking", Method: "DELETE",
		Path: "/models/{model}/askings/{asking}", Summary: "Take back that an edition was asked for a standing",
		Access: Member})
	ReportCheck = declare[NewEditionCheck, Edition](Spec{ID: "report-check", Method: "POST",
		Path: "/models/{model}/editions/{edition}/checks", Summary: "Report the outcome of a check on an edition",
		Access: Recorder, Reports: true})
	ReportUse = declare[NewUse, None](Spec{ID: "report-use", Method: "POST",
		Path: "/models/{model}/editions/{edition}/uses", Summary: "Report where an edition is used",
		Access: Recorder, Reports: true})
)
