package sheet

import (
	"encoding/json"
	"slices"
)

// MaxNamesFile is how many bytes of JSON names of classes are looked for in.
const MaxNamesFile = 1 << 20

// nameKeys are what a list of names of classes is called in a part preprocess.
var nameKeys = []string{"classes", "class_names", "labels", "label_names", "names"}

// NamesIn finds the names of at least so many classes in a part preprocess: in a JSON object, or in the tree of a
// binding (docs/python.md), a list of texts called classes, class_names, labels, label_names or names, or a mapping
// from places to texts; nil: there is none.
func NamesIn(content []byte, least int) []string {
	if len(content) > MaxNamesFile {
		return nil
	}
	var root any
	if json.Unmarshal(content, &root) != nil {
		return nil
	}
	best, found := len(nameKeys), []string(nil)
	visit(root, 0, func(key string, value any) {
		at := slices.Index(nameKeys, key)
		if at < 0 || at >= best {
			return
		}
		if names := textsIn(value); len(names) >= least && (Says{Task: Classes, Classes: names}).Check() == nil {
			best, found = at, names
		}
	})
	return found
}

// deepNames bounds how deep names are looked for.
const deepNames = 6

// visit calls do for each member of objects, also as trees of bindings write them: {"dict": [[key, value], ...]}.
func visit(node any, depth int, do func(key string, value any)) {
	if depth > deepNames {
		return
	}
	switch x := node.(type) {
	case []any:
		for _, v := range x {
			visit(v, depth+1, do)
		}
	case map[string]any:
		if pairs, ok := x["dict"].([]any); ok {
			for _, p := range pairs {
				if pair, ok := p.([]any); ok && len(pair) == 2 {
					if key, ok := pair[0].(string); ok {
						do(key, pair[1])
					}
					visit(pair[1], depth+1, do)
				}
			}
			return
		}
		for key, v := range x {
			do(key, v)
			visit(v, depth+1, do)
		}
	}
}

// textsIn are the texts of a list, or of a mapping from places; nil: it is neither.
func textsIn(node any) []string {
	switch x := node.(type) {
	case []any:
		out := make([]string, 0, len(x))
		for _, v := range x {
			text, ok := v.(string)
			if !ok {
				return nil
			}
			out = append(out, text)
		}
		return out
	case map[string]any:
		for _, key := range []string{"list", "tuple"} {
			if inner, ok := x[key]; ok && len(x) == 1 {
				return textsIn(inner)
			}
		}
		pairs, ok := x["dict"].([]any)
		if !ok {
			return nil
		}
		out := make([]string, len(pairs))
		for _, p := range pairs {
			pair, ok := p.([]any)
			if !ok || len(pair) != 2 {
				return nil
			}
			place, isNumber := pair[0].(float64)
			text, isText := pair[1].(string)
			if !isNumber || !isText || place < 0 || place >= float64(len(out)) || place != float64(int(place)) {
				return nil
			}
			out[int(place)] = text
		}
		return out
	}
	return nil
}
