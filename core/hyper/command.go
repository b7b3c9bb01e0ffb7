package hyper

import (
	"encoding/json"
	"strings"
)

// Substitute puts a hyperparameter's new value in place of its old one in a command, where the command names it: --lr
// 0.03, --lr=0.03, -lr 0.03 or lr=0.03, with hyphens and underscores alike, by its whole name or the last of its dotted
// parts. A value that is not the old one is left alone. It returns a new command and whether anything was replaced.
func Substitute(command []string, name string, old, value json.RawMessage) ([]string, bool) {
	out, found := append([]string(nil), command...), false
	for i, arg := range out {
		flag, given, joined := strings.Cut(arg, "=")
		bare := strings.TrimLeft(flag, "-")
		if !names(bare, name) || bare == flag && !joined {
			continue
		}
		if joined {
			if says(given, old) {
				out[i], found = flag+"="+Text(value, given), true
			}
		} else if i+1 < len(out) && says(out[i+1], old) {
			out[i+1], found = Text(value, out[i+1]), true
		}
	}
	return out, found
}

func names(flag, name string) bool {
	plain := func(s string) string { return strings.ReplaceAll(s, "_", "-") }
	return flag != "" && (plain(flag) == plain(name) || plain(flag) == plain(name[strings.LastIndexByte(name, '.')+1:]))
}

// says reports whether an argument stands for a value, as Parse would read it, or as a list with commas.
func says(arg string, value json.RawMessage) bool {
	_, got, err := Parse("x=" + arg)
	return err == nil && Equal(got, value) || Text(value, "1,2") == arg
}

// Text writes a value as an argument: texts without quotes; lists with commas, unless the argument like which it is to
// be has brackets.
func Text(value json.RawMessage, like string) string {
	if len(value) > 0 && (value[0] == '-' || '0' <= value[0] && value[0] <= '9') {
		return string(value)
	}
	var text string
	if json.Unmarshal(value, &text) == nil {
		return text
	}
	var list []json.RawMessage
	if strings.HasPrefix(like, "[") || json.Unmarshal(value, &list) != nil {
		return string(value)
	}
	parts := make([]string, len(list))
	for i, v := range list {
		parts[i] = Text(v, "[")
	}
	return strings.Join(parts, ",")
}
