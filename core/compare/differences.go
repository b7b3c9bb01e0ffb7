package compare

import (
	"cmp"
	"slices"
)

// Fact is something that went into a run.
type Fact struct{ Section, Name, Value string }

// Row is a fact of several runs. A run that has none has the value "".
type Row struct {
	Section, Name string
	Values        []string // one a run
	Has           []bool
}

// Differences tells the facts in which runs differ from those that all share, both by section in the order given, then
// by name. O(facts log facts).
func Differences(sections []string, runs [][]Fact) (differ, same []Row) {
	type key struct{ section, name string }
	rows := map[key]*Row{}
	var order []key
	for i, facts := range runs {
		for _, f := range facts {
			k := key{f.Section, f.Name}
			if rows[k] == nil {
				rows[k] = &Row{f.Section, f.Name, make([]string, len(runs)), make([]bool, len(runs))}
				order = append(order, k)
			}
			rows[k].Values[i], rows[k].Has[i] = f.Value, true
		}
	}
	slices.SortFunc(order, func(a, b key) int {
		return cmp.Or(slices.Index(sections, a.section)-slices.Index(sections, b.section), cmp.Compare(a.name, b.name))
	})
	for _, k := range order {
		r := *rows[k]
		equal := true
		for i := range r.Values {
			equal = equal && r.Has[i] == r.Has[0] && r.Values[i] == r.Values[0]
		}
		if equal {
			same = append(same, r)
		} else {
			differ = append(differ, r)
		}
	}
	return differ, same
}
