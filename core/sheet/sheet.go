package sheet

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"kembrel/core/plain"
)

// Limits of a sheet.
const (
	MaxExamples = 1_000_000
	MaxClasses  = 1000
	MaxScores   = 25_000_000 // examples times classes
	MaxColumns  = 50         // of one's own
	MaxMedia    = 8          // of an example
	MaxBytes    = 256 << 20  // of examples.jsonl
	maxLine     = 64 << 10   // bytes of a line of it
	maxKey      = 1000
	maxName     = 200 // bytes of a class, a group, a column's name
)

// The files of a sheet.
const (
	ExamplesFile  = "examples.jsonl"
	ScoresFile    = "scores.npy"
	PredictedFile = "predicted.npy"
	MediaFile     = "media"
)

// Names are those of all files that a sheet may have.
var Names = []string{ExamplesFile, ScoresFile, PredictedFile, MediaFile}

// Task is what the model answers with.
type Task string

// The tasks.
const (
	Classes Task = "classes" // one of some classes
	Labels  Task = "labels"  // any of some classes: none, one or several
	Number  Task = "number"
	Text    Task = "text"
	Masks   Task = "masks" // a class for each pixel of a picture
)

// Tasks are all of them.
var Tasks = []Task{Classes, Labels, Number, Text, Masks}

// Classed reports whether answers are of classes.
func (t Task) Classed() bool { return t == Classes || t == Labels || t == Masks }

// Says is what is said of a sheet beside its examples.
type Says struct {
	Task    Task     `json:"task" enum:"classes,labels,number,text,masks" doc:"What the model answers with"`
	Classes []string `json:"classes,omitempty" maxItems:"1000" doc:"Their names, in the order of the scores; absent: those that true and predicted name, by name"`
	// Probabilities says what the scores are; nil: they are taken for probabilities where nearly all rows are.
	Probabilities *bool `json:"probabilities,omitempty" doc:"Whether scores are probabilities; absent: where nearly all rows look so"`
}

// Span is where the bytes of something lie in the file media.
type Span struct {
	At   int64 `json:"at"`
	Size int64 `json:"size"`
}

// Column is a column of one's own. Values are string, float64 or bool; nil: absent.
type Column struct {
	Name   string
	Values []any
}

// None stands for no class.
const None = -1

// Sheet is a sheet in memory. Columns have a value an example, or are nil where no example has one.
type Sheet struct {
	Says
	Keys      []string
	Groups    []string
	Texts     []string
	True      []int32   // classes: place in Classes, or None
	Predicted []int32   // the same
	Target    []float64 // number: what is true; NaN: not known
	Value     []float64 // number: what the model answers; NaN: nothing
	Scores    []float64 // row-major, a row an example; nil: none
	Numbered  bool      // classes were told by place, and have no names but these
	Own       []Column
	Media     []map[string]Span

	TrueSets    [][]int32      // labels and masks: the classes that are true, rising; nil: not known
	AnswerSets  [][]int32      // labels and masks: those that are answered; nil: nothing was
	TrueTexts   []*string      // text; nil: not known
	AnswerTexts []*string      // text; nil: nothing
	Pixels      [][]PixelCount // masks: nil where one of the two is not there
}

// PixelCount says how many pixels of a picture that are of one class are answered as another. Pixels of Void are left
// out.
type PixelCount struct {
	True, Answer int32
	Count        int64
}

// Len is how many examples there are.
func (s *Sheet) Len() int { return len(s.Keys) }

// Row are the scores of an example, by class; nil: none.
func (s *Sheet) Row(i int) []float64 {
	if s.Scores == nil {
		return nil
	}
	k := len(s.Classes)
	return s.Scores[i*k : (i+1)*k : (i+1)*k]
}

// Labelled reports whether it is known what is true of an example.
func (s *Sheet) Labelled(i int) bool {
	switch s.Task {
	case Number:
		return !math.IsNaN(s.Target[i])
	case Labels:
		return s.TrueSets[i] != nil
	case Text:
		return s.TrueTexts[i] != nil
	case Masks:
		return s.Pixels[i] != nil
	}
	return s.True[i] != None
}

// Right reports whether an answer is what is true: the class, all labels and no other, the text to the letter, each
// pixel. No number is right.
func (s *Sheet) Right(i int) bool {
	switch s.Task {
	case Number:
		return false
	case Labels:
		return s.TrueSets[i] != nil && s.AnswerSets[i] != nil && slices.Equal(s.TrueSets[i], s.AnswerSets[i])
	case Text:
		return s.TrueTexts[i] != nil && s.AnswerTexts[i] != nil && *s.TrueTexts[i] == *s.AnswerTexts[i]
	case Masks:
		return s.Pixels[i] != nil && s.Error(i) == 0
	}
	return s.True[i] != None && s.True[i] == s.Predicted[i]
}

// Class is the name of a class; "": none.
func (s *Sheet) Class(place int32) string {
	if place == None {
		return ""
	}
	return s.Classes[place]
}

// Bytes is about how much memory the sheet takes.
func (s *Sheet) Bytes() int64 {
	n := int64(8*len(s.Scores) + 16*len(s.Keys) + 4*len(s.True) + 4*len(s.Predicted) + 8*len(s.Target) + 8*len(s.Value))
	for _, k := range s.Keys {
		n += int64(len(k))
	}
	for _, t := range s.Texts {
		n += 16 + int64(len(t))
	}
	for i := range s.TrueTexts {
		n += 48 + int64(len(Deref(s.TrueTexts[i]))+len(Deref(s.AnswerTexts[i])))
	}
	for i := range s.TrueSets {
		n += 48 + 4*int64(len(s.TrueSets[i])+len(s.AnswerSets[i]))
	}
	for _, p := range s.Pixels {
		n += 24 + 16*int64(len(p))
	}
	return n + int64(len(s.Own)*len(s.Keys)*24+len(s.Media)*80+len(s.Groups)*16)
}

// Wrong says what is wrong with a sheet, and where.
type Wrong struct {
	File string
	Line int // from 1; 0: not of a line
	What string
}

func (e *Wrong) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.What)
	}
	return fmt.Sprintf("%s, line %d: %s", e.File, e.Line, e.What)
}

var mediaName = regexp.MustCompile(`^[a-z][a-z0-9_.-]{0,39}$`)

// Reserved are the names that no column of one's own may have.
var Reserved = []string{"key", "true", "predicted", "group", "text", "scores", "score", "right", "loss", "margin",
	"error", "media", "column", "row", "missed", "added"}

// Check says what is wrong with what is said, or nil.
func (s Says) Check() error {
	switch s.Task {
	case Classes:
	case Labels:
	case Number, Text:
		if len(s.Classes) > 0 {
			return fmt.Errorf("answers that are a %s have no classes", s.Task)
		}
	case Masks:
		if len(s.Classes) == 0 {
			return fmt.Errorf("say the classes of the masks, in the order of their indexes")
		}
	default:
		return fmt.Errorf("task %.40q is none of %v", s.Task, Tasks)
	}
	if len(s.Classes) > MaxClasses {
		return fmt.Errorf("%d classes are too many; at most %d", len(s.Classes), MaxClasses)
	}
	seen := map[string]bool{}
	for _, c := range s.Classes {
		if err := checkName("class", c); err != nil {
			return err
		}
		if seen[c] {
			return fmt.Errorf("class %q is there twice", c)
		}
		seen[c] = true
	}
	return nil
}

func checkName(what, name string) error {
	if name == "" || len(name) > maxName || plain.Line(name) != name || strings.TrimSpace(name) != name {
		return fmt.Errorf("%s %.60q is empty, too long or cannot be shown", what, name)
	}
	return nil
}

// CheckColumn says what is wrong with the name of a column of one's own, or nil.
func CheckColumn(name string) error {
	if slices.Contains(Reserved, name) {
		return fmt.Errorf("%q is no name for a column of your own: it means something here", name)
	}
	return checkName("column", name)
}
