package api

import (
	"encoding/json"
	"time"

	"kembrel/core/curve"
)

// NewLeg opens a leg of a run. Sent again with the same idempotency key it answers the same leg and claims it for the
// recorder named, if the one that held it is among Previous or has shown no sign of life for a while.
type NewLeg struct {
	RunInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Recorder string    `json:"recorder" format:"uuid" doc:"This recorder process; only it may write to the leg"`
		Previous []string  `json:"previous,omitempty" maxItems:"1000" doc:"The recorders that held the spool before, known to be gone"`
		Host     string    `json:"host,omitempty" maxLength:"255"`
		From     string    `json:"from,omitempty" maxLength:"100" doc:"Address of the checkpoint that it goes on from; its readings count behind that step"`
		Parts    []string  `json:"parts,omitempty" maxItems:"1000" doc:"Parts of it that the program is given"`
		More     bool      `json:"more,omitempty" doc:"Open it although the run is finished, to train it further"`
		TakeOver bool      `json:"take_over,omitempty" doc:"Open it although the leg before is still heard of; that one is told to stop"`
		Started  time.Time `json:"started"`
	}
}

// Counted says how far a leg has been counted: the last batch, and the last record of the spool in it.
type Counted struct {
	Leg   int   `json:"leg"`
	Batch int64 `json:"batch"`
	Upto  int64 `json:"upto"`

	Readings int64 `json:"readings,omitempty" doc:"Kept by this call; absent where the batch was counted before"`
}

// LegNews is what a recorder hears when it shows that it lives: by what its run may be stopped, and whether it is to
// stop now.
type LegNews struct {
	Objective Objective `json:"objective"`
	Rule      *StopRule `json:"rule,omitempty" doc:"The stop rule in force; absent: none"`
	Stop      string    `json:"stop,omitempty" doc:"Why the run is to stop; absent: it may go on"`
	End       bool      `json:"end,omitempty" doc:"A person wants the program ended, where it goes on"`
	Warnings  []string  `json:"warnings,omitempty" doc:"What the person who trains should know"`
}

// LegInput names a leg and the recorder that writes to it.
type LegInput struct {
	RunInput
	Leg      int    `path:"leg" minimum:"1" maximum:"100000"`
	Recorder string `header:"Kembrel-Recorder" format:"uuid" required:"true"`
}

// Batch is a numbered piece of a leg. The service counts each number once, in one transaction with what it brings.
type Batch struct {
	Number int64                      `json:"number" minimum:"1"`
	Upto   int64                      `json:"upto" minimum:"1" doc:"Last record of the spool in this batch; answered when the batch is repeated"`
	Hyper  map[string]json.RawMessage `json:"hyper,omitempty" maxProperties:"2000"`
	Notes  []NewNote                  `json:"notes,omitempty" maxItems:"10000"`
	Says   *ProgramSays               `json:"says,omitempty"`
	Data   []DataUse                  `json:"data,omitempty" maxItems:"100" doc:"What the run uses for what"`
	Axis   Axis                       `json:"axis,omitempty"`
	Curves []Column                   `json:"curves,omitempty" maxItems:"16384"`
	Packed []byte                     `json:"packed,omitempty" maxLength:"5592408" doc:"Instead of axis and curves: the readings as a journal payload (docs/storage.md), at most 4 MiB, whose curves are numbers that name-curves gave"`
}

// MaxPacked is the longest payload that a batch brings.
const MaxPacked = 4 << 20

// NewNote is a note in a batch.
type NewNote struct {
	At   time.Time `json:"at"`
	Text string    `json:"text" maxLength:"10000"`
}

// Axis is an axis that curves share: for each point its step, epoch and time.
type Axis struct {
	Step  Ints   `json:"step,omitempty" doc:"Never falls within a leg"`
	Epoch Floats `json:"epoch,omitempty" doc:"NaN where unknown"`
	Time  Ints   `json:"time,omitempty" doc:"Milliseconds since 1970 UTC"`
}

// Column is one curve's values in a batch. The curve is given by its name, or by the number that name-curves gave it.
type Column struct {
	Name   string `json:"name,omitempty" example:"loss.val"`
	Curve  int    `json:"curve,omitempty" doc:"Number of the curve, instead of its name"`
	Rows   Ints   `json:"rows,omitempty" doc:"Points that have a value, rising; absent: all"`
	Values Floats `json:"values"`
}

// ToBatch is a batch of core's in the API's form; names are those of its columns.
func ToBatch(names []string, b curve.Batch) (axis Axis, columns []Column) {
	n := len(b.Axis)
	axis = Axis{Step: make(Ints, n), Epoch: make(Floats, n), Time: make(Ints, n)}
	for i, p := range b.Axis {
		axis.Step[i], axis.Epoch[i], axis.Time[i] = p.Step, p.Epoch, p.Time
	}
	for i, c := range b.Columns {
		column := Column{Name: names[i], Values: c.Values}
		if c.Rows != nil {
			column.Rows = make(Ints, len(c.Rows))
			for k, row := range c.Rows {
				column.Rows[k] = int64(row)
			}
		}
		columns = append(columns, column)
	}
	return axis, columns
}

// CurveNames asks for the numbers of curves, which batches may use instead of the names.
type CurveNames struct {
	LegInput
	Body struct {
		Names []string `json:"names" minItems:"1" maxItems:"5000"`
	}
}

// CurveNumbers are the numbers, in the order of the names. They hold for the run.
type CurveNumbers struct {
	Curves []int `json:"curves"`
}

// BatchInput carries a batch.
type BatchInput struct {
	LegInput
	Body Batch
}

// OutputInput carries output of the program. Offset makes it idempotent.
type OutputInput struct {
	LegInput
	Body struct {
		Stream string `json:"stream" enum:"stdout,stderr"`
		Offset int64  `json:"offset" minimum:"0" maximum:"1125899906842624" doc:"Bytes of the stream before this text"`
		Size   int64  `json:"size" minimum:"0" maximum:"1125899906842624" doc:"Bytes of the stream that this text stands for"`
		Text   string `json:"text" maxLength:"262144"`
	}
}

// EndInput ends a leg.
type EndInput struct {
	LegInput
	Body struct {
		State    string    `json:"state" enum:"finished,stopped,failed"`
		At       time.Time `json:"at"`
		ExitCode *int      `json:"exit_code,omitempty"`
		Signal   string    `json:"signal,omitempty" maxLength:"40"`
		Why      string    `json:"why,omitempty" maxLength:"2000"`
		Tail     string    `json:"tail,omitempty" maxLength:"20000"`
	}
}

// Output is a stretch of a program's output.
type Output struct {
	Leg    int    `json:"leg"`
	Stream string `json:"stream" enum:"stdout,stderr"`
	Offset int64  `json:"offset"`
	Size   int64  `json:"size"`
	Text   string `json:"text"`
	ID     int64  `json:"id" doc:"Rises in the order of arrival"`
}

// OutputsInput reads output from a position on.
type OutputsInput struct {
	RunInput
	After int64 `query:"after" doc:"The id of the last stretch already read"`
}

// The operations on legs, called by recorders.
var (
	OpenLeg = declare[NewLeg, Counted](Spec{ID: "open-leg", Method: "POST",
		Path: "/projects/{project}/runs/{number}/legs", Summary: "Open a leg, or claim it again", Access: Member,
		Own: Recorder, Recorders: true})
	NameCurves = declare[CurveNames, CurveNumbers](Spec{ID: "name-curves", Method: "POST",
		Path: "/projects/{project}/runs/{number}/legs/{leg}/curves", Summary: "Give curves numbers, for batches",
		Access: Member, Own: Recorder, Recorders: true})
	SendBatch = declare[BatchInput, Counted](Spec{ID: "send-batch", Method: "POST",
		Path: "/projects/{project}/runs/{number}/legs/{leg}/batches", Summary: "Send a numbered batch, as JSON or CBOR",
		Access: Member, Own: Recorder, Recorders: true, MaxBody: 16 << 20, OwnCheck: true, Binary: true})
	ShowLife = declare[LegInput, LegNews](Spec{ID: "alive", Method: "POST",
		Path: "/projects/{project}/runs/{number}/legs/{leg}/alive", Summary: "Show a sign of life", Access: Member,
		Own: Recorder, Recorders: true})
	SendOutput = declare[OutputInput, None](Spec{ID: "send-output", Method: "POST",
		Path: "/projects/{project}/runs/{number}/legs/{leg}/output", Summary: "Send output of the program",
		Access: Member, Own: Recorder, Recorders: true, MaxBody: 2 << 20})
	UseData = declare[DataUseInput, None](Spec{ID: "use-data", Method: "PUT",
		Path: "/projects/{project}/runs/{number}/data", Summary: "Say which data a run uses for what",
		Access: Member, Own: Recorder})
	EndLeg = declare[EndInput, None](Spec{ID: "end-leg", Method: "POST",
		Path: "/projects/{project}/runs/{number}/legs/{leg}/end", Summary: "End a leg", Access: Member,
		Own: Recorder, Recorders: true})
	GetOutput = declare[OutputsInput, Page[Output]](Spec{ID: "output", Method: "GET",
		Path: "/projects/{project}/runs/{number}/output", Summary: "Read the program's output", Access: Reader})
)
