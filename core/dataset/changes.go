package dataset

import (
	"slices"
	"strings"
)

// Change is what became of an item from one snapshot to another.
type Change string

// The changes. An item may be moved and relabelled at once; it counts as each.
const (
	Added      Change = "added"
	Gone       Change = "gone"
	Changed    Change = "changed" // other bytes
	Relabelled Change = "relabelled"
	Moved      Change = "moved" // to another split
	Regrouped  Change = "regrouped"
	Edited     Change = "edited" // another value in a column of one's own that both have
)

// Changes are all of them, in the order in which they are told.
var Changes = []Change{Added, Gone, Changed, Relabelled, Moved, Regrouped, Edited}

// ByName counts items under a name.
type ByName struct {
	Name  string `json:"name"`
	Items int64  `json:"items"`
}

// ItemChanges is how one snapshot differs from an earlier one.
type ItemChanges struct {
	Same     int64               `json:"same"` // items that do not differ
	Counts   map[Change]int64    `json:"counts"`
	ByLabel  map[Change][]ByName `json:"by_label"` // the most first, at most 20; of relabelled ones "tug → ferry"
	ByGroup  map[Change][]ByName `json:"by_group"`
	BySplit  map[Change][]ByName `json:"by_split"` // of moved ones "train → val"
	Columns  map[string]string   `json:"columns"`  // those of one's own that only one has: added or gone
	Examples map[Change][]string `json:"examples"` // keys of the first, at most 20
}

// Sets says what the items of a change set in those of their key that are there: the rest of these stays.
type Sets struct {
	Split bool     `json:"split,omitempty"`
	Group bool     `json:"group,omitempty"`
	Label bool     `json:"label,omitempty"`
	Bytes bool     `json:"bytes,omitempty"`              // digest, size, and where bytes are kept
	Own   []string `json:"own,omitempty" maxItems:"200"` // columns
}

// ChangedColumns are the columns of a snapshot that is changed: its own, and those that the change brings.
func ChangedColumns(base, change []OwnColumn) []OwnColumn {
	out := slices.Clone(base)
	for _, c := range change {
		if !slices.ContainsFunc(out, func(b OwnColumn) bool { return b.Name == c.Name }) {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b OwnColumn) int { return strings.Compare(a.Name, b.Name) })
	return out
}
