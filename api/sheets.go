package api

import (
	"encoding/json"
	"time"

	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// Sheet is a prediction sheet: a model's answers on examples of a split, at a step of its run (docs/predictions.md).
type Sheet struct {
	Run      string            `json:"run" example:"vessels/3"`
	Number   int               `json:"number" doc:"In the run, from 1"`
	Split    string            `json:"split" example:"val"`
	Leg      int               `json:"leg,omitempty" doc:"Absent where it was added later"`
	Step     int64             `json:"step"`
	Epoch    Float             `json:"epoch"`
	Task     sheet.Task        `json:"task" enum:"classes,labels,number,text,masks"`
	Classes  []string          `json:"classes,omitempty"`
	Examples int64             `json:"examples"`
	Labelled int64             `json:"labelled" doc:"Examples of which it is known what is true"`
	Figures  []assess.Measured `json:"figures" doc:"Computed from the examples by the service, with 95 % intervals"`
	Alarms   []Alarm           `json:"alarms" doc:"What is wrong though a loss falls"`
	Held     []string          `json:"held,omitempty" doc:"Curves whose figures were held against the answers"`
	Pending  bool              `json:"pending,omitempty" doc:"It is still to be held against curves and data of its run"`
	Data     string            `json:"data,omitempty" example:"hydrophone#3:val" doc:"The split of a snapshot that the run used for it"`
	Of       int               `json:"evaluation,omitempty" doc:"Number of the evaluation that it is of; absent where the training handed it over"`
	Source   string            `json:"source,omitempty" doc:"The file that it was added from; absent where the program handed it over"`
	Size     int64             `json:"size" doc:"Bytes of its files, before they are packed"`
	Who      string            `json:"who"`
	Created  time.Time         `json:"created"`
	Says     string            `json:"says" doc:"What it gets wrong, the worst first"`
	State    string            `json:"state,omitempty" enum:"assessing" doc:"assessing: the service has accepted it and is computing its figures; it has no number yet (number is 0). Send the same request again to learn the result. Absent: it is complete"`
	Progress float64           `json:"progress,omitempty" minimum:"0" maximum:"1" doc:"While it is being assessed: the share that is done"`
}

// Assessing is the state of a sheet that was accepted and is not assessed yet.
const Assessing = "assessing"

// Alarm is something wrong that a falling loss hides.
type Alarm struct {
	assess.Alarm
	Says  string `json:"says"`
	Where string `json:"where,omitempty" doc:"Condition that lists its examples"`
}

// SheetDetail is a sheet with all that it comes to.
type SheetDetail struct {
	Sheet
	Assessed assess.Assessment `json:"assessed"`
	Scores   bool              `json:"scores" doc:"Each answer has a score for each class"`
	Pairs    []SheetPair       `json:"pairs" doc:"What is taken for what, the most frequent first; at most 50"`
	Quiet    string            `json:"quiet" doc:"Which alarms are silent"`
	Over     []SheetAt         `json:"over" doc:"The sheets of the same split over the epochs, by step"`
	Own      []string          `json:"own" doc:"Columns of the team's own"`
	Media    []string          `json:"media" doc:"What examples can show of themselves"`
	Texts    bool              `json:"texts,omitempty" doc:"Examples have texts"`
}

// SheetPair is a class that is taken for another.
type SheetPair struct {
	True      string          `json:"true"`
	Predicted string          `json:"predicted"`
	Count     int64           `json:"count"`
	Share     assess.Interval `json:"share" doc:"Of the examples, or pixels, of the true class"`
	Where     string          `json:"where" doc:"Condition that lists its examples"`
	Says      string          `json:"says"`
}

// SheetAt is one of the sheets of a split.
type SheetAt struct {
	Number  int                `json:"number"`
	Step    int64              `json:"step"`
	Epoch   Float              `json:"epoch"`
	Figures map[string]float64 `json:"figures"`
	Recall  []*float64         `json:"recall,omitempty" doc:"By class"`
	Alarms  int                `json:"alarms,omitempty"`
}

// NewSheet hands over a prediction sheet whose files' chunks have been sent. Sent again with the same key it answers
// the same one.
type NewSheet struct {
	RunInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		sheet.Says
		Split  string `json:"split" pattern:"^[a-z0-9][a-z0-9_.-]{0,49}$" example:"val"`
		Leg    int    `json:"leg,omitempty" minimum:"0" maximum:"2147483647"`
		Step   int64  `json:"step" minimum:"0"`
		Epoch  Float  `json:"epoch"`
		Of     int    `json:"evaluation,omitempty" minimum:"0" maximum:"2147483647" doc:"Number of the evaluation that it is of, whose checkpoint and data count then"`
		Source string `json:"source,omitempty" maxLength:"1000"`
		Files  []File `json:"files" minItems:"1" maxItems:"4" doc:"Their paths are examples.jsonl, scores.npy, predicted.npy, media"`
	}
}

// SheetsInput lists the sheets of a run.
type SheetsInput struct {
	RunInput
	PageInput
	Split string `query:"split" maxLength:"50" doc:"Only of this split"`
	Step  string `query:"step" pattern:"^[0-9]{0,18}$" doc:"Only of this step"`
	State string `query:"state" enum:",assessing" doc:"assessing: list the sheets that are being assessed, up to 100, instead of those that are complete"`
}

// SheetInput names a sheet.
type SheetInput struct {
	RunInput
	Sheet int    `path:"sheet" minimum:"0" maximum:"2147483647" doc:"0: the latest of split"`
	Split string `query:"split" maxLength:"50" doc:"With 0: of which split; absent: of val, else test, else any"`
}

// ExamplesInput asks for examples of a sheet.
type ExamplesInput struct {
	SheetInput
	Where string `query:"where" maxLength:"4000" doc:"Only examples that fulfil this, such as true == \"tug\" && predicted == \"ferry\" (docs/predictions.md)"`
	Order string `query:"order" enum:"key,surest,doubtful,loss,suspect,error" default:"key" doc:"As they came; of classes by score, the highest or the closest first, by loss, or by how surely the label is contradicted; of anything else by the size of the error"`
	From  int    `query:"from" minimum:"0" maximum:"1000000" doc:"How many to leave out"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"60"`
}

// Example is an example of a sheet.
type Example struct {
	Row       int                        `json:"row" doc:"Its place in the sheet, from 0"`
	Key       string                     `json:"key"`
	True      string                     `json:"true,omitempty" doc:"The class, or of texts the text"`
	Predicted string                     `json:"predicted,omitempty"`
	Labels    []string                   `json:"labels,omitzero" required:"false" doc:"Of several labels and masks: the classes that are true"`
	Answered  []string                   `json:"answered,omitzero" required:"false" doc:"Those that are answered"`
	Target    *Float                     `json:"target,omitempty" doc:"Of a sheet of numbers: what is true"`
	Value     *Float                     `json:"value,omitempty" doc:"The answer"`
	Right     *bool                      `json:"right,omitempty" doc:"Absent where it is not known what is true"`
	Score     *Float                     `json:"score,omitempty" doc:"Of the answer"`
	Loss      *Float                     `json:"loss,omitempty"`
	Error     *Float                     `json:"error,omitempty" doc:"How far the answer is off: of numbers their difference, of texts the character error rate, of labels and masks one less what both have in common"`
	Group     string                     `json:"group,omitempty"`
	Text      string                     `json:"text,omitempty"`
	Media     []string                   `json:"media,omitempty" doc:"What it can show of itself"`
	Own       map[string]json.RawMessage `json:"own,omitempty"`
	Item      *ExampleItem               `json:"item,omitempty" doc:"The item of the snapshot of this key, where its bytes are kept"`
	Suspect   bool                       `json:"suspect,omitempty" doc:"The model surely contradicts the label (Northcutt et al. 2021)"`
	Marks     []Mark                     `json:"marks,omitempty" doc:"What people say of its label, the latest last"`
}

// Mark is what a person says of the label of an example.
type Mark struct {
	Key   string    `json:"key"`
	Mark  string    `json:"mark" enum:"right,wrong,unclear"`
	Label string    `json:"label,omitempty" doc:"What a wrong one should be"`
	Was   string    `json:"was,omitempty" doc:"The label that was looked at"`
	Who   string    `json:"who"`
	At    time.Time `json:"at"`
	Own   bool      `json:"own,omitempty" doc:"Of whoever asks"`
}

// NewMark says something of the label of an example, in the place of what the same person said before.
type NewMark struct {
	ExampleInput
	Body struct {
		Mark  string `json:"mark" enum:"right,wrong,unclear"`
		Label string `json:"label,omitempty" maxLength:"200" doc:"What a wrong one should be"`
	}
}

// MarksInput lists marks.
type MarksInput struct {
	SheetInput
}

// Marks are what people said of the labels of a sheet's examples.
type Marks struct {
	Scope string `json:"scope" example:"hydrophone#3" doc:"What they are kept with: the snapshot, or the run and the split where none is known"`
	Items []Mark `json:"items" doc:"The latest last"`
}

// ExampleItem is the item of a snapshot that an example is.
type ExampleItem struct {
	Dataset string `json:"dataset"`
	Number  int    `json:"number"`
	Row     int64  `json:"row"`
}

// Examples are some examples of a sheet.
type Examples struct {
	Items    []Example `json:"items"`
	Count    int       `json:"count" doc:"How many fulfil the condition"`
	Suspects int       `json:"suspects" doc:"How many of them have a label that the model surely contradicts"`
}

// ExampleInput names an example.
type ExampleInput struct {
	SheetInput
	Row int `path:"row" minimum:"0" maximum:"1000000"`
}

// ExampleMediaInput asks for what an example shows.
type ExampleMediaInput struct {
	ExampleInput
	Name string `path:"name" maxLength:"40"`
}

// ExampleDetail is an example with all scores, and its answers over the epochs.
type ExampleDetail struct {
	Example
	Scores []Float      `json:"scores,omitempty" doc:"By class"`
	Over   []ExampleAt  `json:"over" doc:"Its answers in the sheets of the split, by step"`
	Sheet  ExampleSheet `json:"sheet"`
}

// ExampleSheet says where an example is from.
type ExampleSheet struct {
	Number  int        `json:"number"`
	Split   string     `json:"split"`
	Epoch   Float      `json:"epoch"`
	Task    sheet.Task `json:"task" enum:"classes,labels,number,text,masks"`
	Classes []string   `json:"classes,omitempty"`
}

// ExampleAt is the answer to an example in one sheet.
type ExampleAt struct {
	Number    int    `json:"number"`
	Step      int64  `json:"step"`
	Epoch     Float  `json:"epoch"`
	Predicted string `json:"predicted,omitempty"`
	Value     *Float `json:"value,omitempty"`
	Score     *Float `json:"score,omitempty" doc:"Of the answer"`
	OfTrue    *Float `json:"of_true,omitempty" doc:"Score of the true class"`
	Error     *Float `json:"error,omitempty"`
}

// ExamplesFileInput asks for a sheet as a table.
type ExamplesFileInput struct {
	SheetInput
	Where  string  `query:"where" maxLength:"4000"`
	Format string  `query:"format" enum:"csv,jsonl,parquet" default:"csv"`
	Cutoff float64 `query:"cutoff" minimum:"0" maximum:"1" doc:"Leave the answer out where its score is below this"`
}

// CutoffsInput asks what cutoffs come to.
type CutoffsInput struct {
	SheetInput
	Class string `query:"class" maxLength:"200" doc:"Against the rest; absent: of the answer, over all classes"`
}

// Cutoffs say what answering only from a score on comes to.
type Cutoffs struct {
	Class string          `json:"class,omitempty"`
	Table []assess.Cutoff `json:"table,omitempty" doc:"Of a class, from the highest score"`
	Sure  []assess.Sure   `json:"sure,omitempty" doc:"Of all answers, by hundredths"`
}

// DisagreementInput asks where two sheets disagree.
type DisagreementInput struct {
	SheetInput
	Run   string `query:"run" required:"true" maxLength:"200" example:"vessels/8" doc:"The other run"`
	Other int    `query:"other" minimum:"0" maximum:"2147483647" doc:"Its sheet; 0: the latest of the same split"`
	Kind  string `query:"kind" enum:"first,second,neither,both,answers" default:"answers" doc:"Which examples are listed: that only the first has right, only the second, neither, both; or whose answers differ"`
	Where string `query:"where" maxLength:"4000" doc:"Condition on the examples of the first"`
	From  int    `query:"from" minimum:"0" maximum:"1000000"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"60"`
}

// SheetDisagreement says where two models disagree on the same examples.
type SheetDisagreement struct {
	First  Sheet `json:"first"`
	Second Sheet `json:"second"`
	assess.Disagreement
	Shared  int64               `json:"shared" doc:"Examples that both have, by key, and whose label is known"`
	Says    string              `json:"says"`
	Classes []ClassDisagreement `json:"classes"`
	Items   []TwoAnswers        `json:"items"`
	Count   int                 `json:"count" doc:"How many are of the kind asked for"`
}

// ClassDisagreement is the same of one true class.
type ClassDisagreement struct {
	Name string `json:"name"`
	assess.Disagreement
}

// TwoAnswers are two answers to one example.
type TwoAnswers struct {
	Example
	Other      string `json:"other" doc:"The second's answer"`
	OtherScore *Float `json:"other_score,omitempty"`
	OtherRight *bool  `json:"other_right,omitempty" doc:"Absent where it is not known what is true"`
	OtherRow   int    `json:"other_row"`
}

const sheetPath = "/projects/{project}/runs/{number}/sheets"

// The operations on prediction sheets.
var (
	AddSheet = declare[NewSheet, Sheet](Spec{ID: "add-sheet", Method: "POST", Path: sheetPath,
		Summary: "Hand over a prediction sheet", Access: Member, Own: Recorder, Long: true, Recorders: true,
		Status:  201,
		MaxBody: 8 << 20})
	ListSheets = declare[SheetsInput, Page[Sheet]](Spec{ID: "sheets", Method: "GET", Path: sheetPath,
		Summary: "List prediction sheets, latest first", Access: Reader})
	GetSheet = declare[SheetInput, SheetDetail](Spec{ID: "sheet", Method: "GET", Path: sheetPath + "/{sheet}",
		Summary: "Show what a prediction sheet comes to", Access: Reader})
	ListExamples = declare[ExamplesInput, Examples](Spec{ID: "examples", Method: "GET",
		Path: sheetPath + "/{sheet}/examples", Summary: "List examples of a prediction sheet", Access: Reader})
	GetExample = declare[ExampleInput, ExampleDetail](Spec{ID: "example", Method: "GET",
		Path: sheetPath + "/{sheet}/examples/{row}", Summary: "Show an example and its answers over the epochs",
		Access: Reader})
	GetExampleMedia = declare[ExampleMediaInput, None](Spec{ID: "example-media", Method: "GET",
		Path: sheetPath + "/{sheet}/examples/{row}/media/{name}", Summary: "Download what an example shows of itself",
		Access: Reader, Status: 200,
		Media: files, Parts: true})
	GetExamplesFile = declare[ExamplesFileInput, None](Spec{ID: "examples-file", Method: "GET",
		Path: sheetPath + "/{sheet}/file", Summary: "Export a prediction sheet as a table", Access: Reader, Status: 200,
		Long:  true,
		Media: tables})
	SetMark = declare[NewMark, Example](Spec{ID: "mark-example", Method: "PUT",
		Path:    sheetPath + "/{sheet}/examples/{row}/mark",
		Summary: "Say whether the label of an example is right, wrong or unclear", Access: Member})
	DropMark = declare[ExampleInput, Example](Spec{ID: "unmark-example", Method: "DELETE",
		Path: sheetPath + "/{sheet}/examples/{row}/mark", Summary: "Take back what one said of the label of an example",
		Access: Member, Status: 200})
	ListMarks = declare[MarksInput, Marks](Spec{ID: "marks", Method: "GET", Path: sheetPath + "/{sheet}/marks",
		Summary: "List what people said of the labels of a sheet's examples", Access: Reader})
	GetCutoffs = declare[CutoffsInput, Cutoffs](Spec{ID: "cutoffs", Method: "GET", Path: sheetPath + "/{sheet}/cutoffs",
		Summary: "Say what answering only from a score on comes to", Access: Reader})
	GetDisagreement = declare[DisagreementInput, SheetDisagreement](Spec{ID: "disagreement", Method: "GET",
		Path: sheetPath + "/{sheet}/disagreement", Summary: "Say where two models disagree on the same examples",
		Access: Reader})
)
