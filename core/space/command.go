package space

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"kembrel/core/hyper"
)

var mark = regexp.MustCompile(`\{([^{}]*)\}`)

// CheckCommand says what is wrong with the places in braces of a command, or nil: each names a hyperparameter of the
// space.
func (s *Space) CheckCommand(command []string) error {
	names := s.Names()
	for _, arg := range command {
		for _, m := range mark.FindAllStringSubmatch(arg, -1) {
			if !slices.Contains(names, m[1]) {
				return fmt.Errorf("%s in the command is no hyperparameter of the space; it has %s", m[0],
					strings.Join(names, ", "))
			}
		}
	}
	return nil
}

// Fill puts a setting's values into a command's places in braces: {lr}. An argument with a place for a value that is
// not in the setting is left out, and so is the flag before it where the place is all of the argument.
func (s Setting) Fill(command []string) []string {
	var out []string
	for i, arg := range command {
		absent := false
		filled := mark.ReplaceAllStringFunc(arg, func(place string) string {
			v := s.Get(place[1 : len(place)-1])
			absent = absent || v == nil
			return hyper.Text(v, "1,2")
		})
		if !absent {
			out = append(out, filled)
			continue
		}
		if mark.FindString(arg) == arg && i > 0 && len(out) > 0 && strings.HasPrefix(command[i-1], "-") &&
			out[len(out)-1] == command[i-1] {
			out = out[:len(out)-1]
		}
	}
	return out
}
