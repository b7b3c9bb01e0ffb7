package act

import (
	"encoding/json"

	"kembrel/api"
)

// Own sets the value of a column of the team's own, a text, number or boolean, in what is answered; nil is absent.
func Own(to *map[string]json.RawMessage, name string, v any) {
	if x, ok := v.(float64); ok {
		v = api.Float(x) // NaN has a form of its own
	}
	if v == nil {
		return
	}
	if text, err := json.Marshal(v); err == nil {
		if *to == nil {
			*to = map[string]json.RawMessage{}
		}
		(*to)[name] = text
	}
}
