package api

import (
	"fmt"
	"strconv"
	"strings"

	"kembrel/core/lineage"
)

// Lineage is where a thing comes from and what uses it (docs/lineage.md).
type Lineage struct {
	lineage.Graph
	Before string `json:"before" doc:"Where does it come from? In a sentence"`
	After  string `json:"after" doc:"What uses it? In a sentence"`
}

// LineageInput asks for the lineage of a thing.
type LineageInput struct {
	Of    string `query:"of" required:"true" maxLength:"200" example:"vessels/7@best" doc:"A snapshot, a run, a checkpoint, an evaluation (vessels/7/evaluations/2) or an edition"`
	Only  string `query:"only" enum:"before,after" doc:"Only where it comes from, or only what uses it; absent: both"`
	Depth int    `query:"depth" minimum:"0" maximum:"1000" doc:"So many links away at most; 0: all"`
	Limit int    `query:"limit" minimum:"1" maximum:"2000" default:"300" doc:"So many things at most, the nearest first"`
}

// ProvenanceInput asks for the same as W3C PROV.
type ProvenanceInput struct {
	LineageInput
	Format string `query:"format" enum:"json,n" default:"json" doc:"PROV-JSON or PROV-N"`
}

// The operations on lineage. What may be seen is decided thing by thing.
var (
	GetLineage = declare[LineageInput, Lineage](Spec{ID: "lineage", Method: "GET", Path: "/lineage",
		Summary: "Say where a thing comes from and what uses it", Access: Reader, Anywhere: true})
	GetProvenance = declare[ProvenanceInput, None](Spec{ID: "provenance", Method: "GET", Path: "/lineage/prov",
		Summary: "The same as W3C PROV", Access: Reader, Anywhere: true, Status: 200,
		Media: []string{"application/json", "text/provenance-notation"}})
)

// EvaluationAddress is the address of an evaluation of a run.
func EvaluationAddress(run string, number int) string {
	return fmt.Sprintf("%s/evaluations/%d", run, number)
}

// ParseEvaluation reads the address of an evaluation.
func ParseEvaluation(text string) (run Address, number int, ok bool) {
	head, tail, found := strings.Cut(text, "/evaluations/")
	if !found {
		return Address{}, 0, false
	}
	run, err := ParseAddress(head)
	n, wrong := strconv.ParseInt(tail, 10, 32)
	return run, int(n), err == nil && wrong == nil && n > 0 && run.Run > 0 && run.At.Kind == AtNone
}
