package filter

import "slices"

// RunField is a field of a run that expressions may name. It is declared here; what it is in the database is said in
// store/pg/finding, and everything else (completion, errors, headings of columns, docs/filter.md) is made from this.
type RunField struct {
	Name  string
	Kind  Kind
	Label string // heading of a column
	Says  string // what it is
}

// Fields are all of them, by name.
var Fields = []RunField{
	{"commit", Text, "Commit", "the commit of the code"},
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
	{"state", Text, "State", "`running`, `finished`, `stopped`, `failed`, `lost`"},
	{"step", Number, "Step", "the last reported"},
	{"tags", List, "Tags", "`\"baseline\" in tags`"},
	{"title", Text, "Title", "its title"},
	{"took", Number, "Took", "seconds of its legs that have ended"},
	{"trial", Number, "Trial", "which of the search"},
	{"verdict", Text, "Verdict", "what its curves say, such as `overfitting`"},
	{"who", Text, "Who", "the person or machine that made it"},
}

// FieldOf finds a field by its name.
func FieldOf(name string) (RunField, bool) {
	i := slices.IndexFunc(Fields, func(f RunField) bool { return f.Name == name })
	if i < 0 {
		return RunField{}, false
	}
	return Fields[i], true
}

// FieldNames are the names of all fields.
func FieldNames() []string {
	out := make([]string, len(Fields))
	for i, f := range Fields {
		out[i] = f.Name
	}
	return out
}
