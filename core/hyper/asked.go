package hyper

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Other is a hyperparameter that was asked to have a value and has another, or none.
type Other struct {
	Name  string
	Asked json.RawMessage
	Used  json.RawMessage // nil: the program has none of this name
}

// Untaken compares the values asked for with those used, and returns the ones that nobody took, by name.
func Untaken(asked, used map[string]json.RawMessage) []Other {
	var out []Other
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		if v, ok := used[name]; !ok || !Equal(v, asked[name]) {
			out = append(out, Other{name, asked[name], v})
		}
	}
	return out
}

// SayUntaken is that as a sentence, or "".
func SayUntaken(others []Other) string {
	if len(others) == 0 {
		return ""
	}
	parts := make([]string, len(others))
	for i, o := range others {
		if o.Used == nil {
			parts[i] = fmt.Sprintf("%s = %s (the program has no such hyperparameter)", o.Name, o.Asked)
			continue
		}
		parts[i] = fmt.Sprintf("%s = %s (it used %s)", o.Name, o.Asked, o.Used)
	}
	return "Asked, not taken: " + strings.Join(parts, ", ") + "."
}
