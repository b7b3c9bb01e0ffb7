package filter

import (
	"regexp"
	"slices"
	"sort"
	"strings"
)

// Words are what a project's own data offer to an expression.
type Words struct {
	Hyper  []string            // names of hyperparameters
	Curves []string            // names of curves
	Values map[string][]string // of the fields that are texts, and of tags
}

// Suggestion is a way to go on with an expression.
type Suggestion struct {
	Text  string // the expression with the word under the cursor completed
	Label string // the word
}

// maxSuggestions bounds them.
const maxSuggestions = 40

var (
	inCurve = regexp.MustCompile(`\b(best|last|lowest|highest|at)\("([^"]*)$`)
	inValue = regexp.MustCompile(`\b(\w+)\s*(?:==|!=|in\s*\[(?:[^\]]*,)?)\s*"([^"]*)$`)
	inText  = regexp.MustCompile(`"([^"]*)$`)
	inHyper = regexp.MustCompile(`\bhyper\.([\w.]*)$`)
	inWord  = regexp.MustCompile(`([A-Za-z_]\w*)$`)
	plainID = regexp.MustCompile(`^[A-Za-z_]\w*(\.[A-Za-z_]\w*)*$`)
)

// Complete offers words for the end of an expression that is being written. O(words).
func Complete(text string, w Words) []Suggestion {
	out := []Suggestion{}
	offer := func(typed, behind string, words []string) {
		head := text[:len(text)-len(typed)]
		for _, word := range words {
			if strings.HasPrefix(strings.ToLower(word), strings.ToLower(typed)) && len(out) < maxSuggestions {
				out = append(out, Suggestion{head + word + behind, word})
			}
		}
	}
	if strings.Count(text, `"`)%2 == 1 {
		if m := inCurve.FindStringSubmatch(text); m != nil {
			offer(m[2], `")`, w.Curves)
		} else if m := inValue.FindStringSubmatch(text); m != nil {
			offer(m[2], `"`, w.Values[m[1]])
		} else if m := inText.FindStringSubmatch(text); m != nil {
			offer(m[1], `" in tags`, w.Values["tags"])
		}
		return out
	}
	if m := inHyper.FindStringSubmatch(text); m != nil {
		offer(m[1], "", slices.DeleteFunc(slices.Clone(w.Hyper),
			func(n string) bool { return !plainID.MatchString(n) }))
		for _, n := range w.Hyper { // names that are not identifiers
			if !plainID.MatchString(n) && strings.HasPrefix(n, m[1]) && len(out) < maxSuggestions {
				out = append(out, Suggestion{strings.TrimSuffix(text, "."+m[1]) + `["` + n + `"]`, n})
			}
		}
		return out
	}
	typed := ""
	if m := inWord.FindStringSubmatch(text); m != nil {
		typed = m[1]
	}
	words := []string{"hyper."}
	words = append(words, runs.names()...)
	for name := range figures {
		words = append(words, name+`("`)
	}
	words = append(words, `ago("`, `evaluated("`, `text("`, "has(hyper.")
	sort.Strings(words)
	offer(typed, "", words)
	return out
}
