package filter

import (
	"slices"

	"kembrel/core/verdict"
)

// Named is what expressions may name: a field of a run, of an item. Those of runs are declared here; what they are in
// the database is said in store/pg/finding, and everything else (completion, errors, headings of columns,
// docs/filter.md) is made from this.
type Named struct {
	Name  string
	Kind  Kind
	Label string // heading of a column
	Says  string // what it is
}

// Few are the fields of a run that are always one of a few texts, and which.
var Few = map[string][]string{"state": {"running", "finished", "stopped", "failed", "lost"}, "verdict": verdicts()}

func verdicts() []string {
	out := make([]string, len(verdict.Kinds))
	for i, k := range verdict.Kinds {
		out[i] = string(k)
	}
	return out
}

// Fields are all of them, by name.
var Fields = []Named{
	{"alarmed", Truth, "Alarmed", "whether its latest predictions raise an alarm ([predictions.md](predictions.md))"},
	{"alarms", List, "Alarms", "`\"never-answered\" in alarms`: what its latest predictions raise"},
	{"commit", Text, "Commit", "the commit of the code"},
	{"data", List, "Data", "`\"hydrophone#3\" in data`; `data.val` is what it used for `val`, such as `hydrophone#3:val` ([data.md](data.md))"},
	{"ended", Time, "Ended", "absent while it runs"},
	{"epoch", Number, "Epoch", "the last reported"},
	{"host", Text, "Host", "the machine that it ran on"},
	{"note", Text, "Note", "what people wrote about it"},
	{"number", Number, "Number", "in the project"},
	{"pace", Number, "Seconds per epoch", "seconds per epoch lately"},
	{"parameters", Number, "Parameters", "values in the weights of the last checkpoint"},
	{"search", Number, "Search", "of which it is a trial ([search.md](search.md))"},
	{"size", Number, "Checkpoint bytes", "bytes of the last checkpoint"},
	{"started", Time, "Started", "when the first leg began"},
	{"state", Text, "State", "how it is, one of"},
	{"step", Number, "Step", "the last reported"},
	{"tags", List, "Tags", "`\"baseline\" in tags`"},
	{"title", Text, "Title", "its title"},
	{"took", Number, "Took", "seconds of its legs that have ended"},
	{"trial", Number, "Trial", "which of the search"},
	{"verdict", Text, "Verdict", "what its curves say, one of"},
	{"who", Text, "Who", "the person or machine that made it"},
}

// Language is what expressions about one kind of thing may say.
type Language struct {
	Of      string          // what the things are: run, item
	Fields  []Named         // what they have
	Columns map[string]Kind // what is written column["any name"]
	Runs    bool            // hyperparameters and figures of curves too
}

var runs = Language{Of: "run", Fields: Fields, Runs: true}

func (l *Language) field(name string) (Named, bool) {
	i := slices.IndexFunc(l.Fields, func(f Named) bool { return f.Name == name })
	if i < 0 {
		return Named{}, false
	}
	return l.Fields[i], true
}

func (l *Language) names() []string {
	out := make([]string, len(l.Fields))
	for i, f := range l.Fields {
		out[i] = f.Name
	}
	return out
}
