package term

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"

	"kembrel/api"
)

// SameProject reads addresses, or numbers of a project's runs.
func SameProject(args []string, project string) (string, []int, error) {
	var numbers []int
	for _, text := range args {
		if n, err := strconv.Atoi(text); err == nil && n > 0 {
			if project == "" {
				return "", nil, Usage("run %d of which project? Write vessels/%d, or --project vessels", n, n)
			}
			numbers = append(numbers, n)
			continue
		}
		addr, err := Address(text, true, false)
		if err != nil {
			return "", nil, err
		}
		if project == "" {
			project = addr.Project
		}
		if addr.Project != project {
			return "", nil, Usage("%s is not a run of %s; runs of one project are compared, as each project judges by its own objective", addr, project)
		}
		numbers = append(numbers, addr.Run)
	}
	return project, numbers, nil
}

// ProjectOrRuns reads addresses that name one project, or some of its runs.
func ProjectOrRuns(args []string) (project string, runs []int, err error) {
	for _, text := range args {
		addr, err := api.ParseAddress(text)
		switch {
		case err != nil:
			return "", nil, Usage("%w", err)
		case addr.At.Kind != api.AtNone:
			return "", nil, Usage("%s is a checkpoint; a project or runs are wanted", text)
		case project != "" && project != addr.Project:
			return "", nil, Usage("%s and %s are in different projects; name one project at a time", args[0], text)
		case addr.Run == 0 && len(args) > 1:
			return "", nil, Usage("%s is a whole project; name it alone, or some of its runs", text)
		case addr.Run > 0:
			runs = append(runs, addr.Run)
		}
		project = addr.Project
	}
	return project, runs, nil
}

// JoinNumbers writes numbers with commas between.
func JoinNumbers(numbers []int) string {
	parts := make([]string, len(numbers))
	for i, n := range numbers {
		parts[i] = strconv.Itoa(n)
	}
	return strings.Join(parts, ",")
}

// Fit cuts a text to a number of columns.
func Fit(text string, columns int) string {
	if r := []rune(text); len(r) > columns {
		return string(r[:columns-1]) + "…"
	}
	return text
}

// Wrap breaks text at spaces into at most so many lines behind a head.
func Wrap(head, text string, columns, most int) []string {
	var out []string
	line := head
	for _, word := range strings.Fields(text) {
		if line != head && len([]rune(line))+1+len([]rune(word)) > columns {
			out, line = append(out, line), strings.Repeat(" ", len(head))
			head = line
		}
		if line != head {
			line += " "
		}
		line += word
	}
	out = append(out, line)
	if len(out) > most {
		out = append(out[:most-1], Fit(out[most-1]+" …", columns))
	}
	return out
}

// FateOf says what becomes of a checkpoint.
func FateOf(c *api.Checkpoint) string {
	switch {
	case c.Dropped != nil:
		return "dropped " + When(*c.Dropped) + " " + c.WhyDeleted
	case c.DeleteAt != nil:
		return fmt.Sprintf("to be deleted %s, %s, which frees %s", When(*c.DeleteAt), c.WhyDeleted, api.Bytes(c.Frees))
	case c.Pinned:
		return "pinned"
	}
	return "stays"
}

// MarksOf are the words that set a checkpoint off in a list.
func MarksOf(c api.Checkpoint) []string {
	var marks []string
	for _, m := range []struct {
		on   bool
		word string
	}{{c.Best, "best"}, {c.Last, "last"}, {c.Pinned, "pinned"},
		{c.DeleteAt != nil && c.Dropped == nil, "to be deleted"},
		{c.Dropped != nil, "dropped"}} {
		if m.on {
			marks = append(marks, m.word)
		}
	}
	return marks
}

// OrEmpty is a list that JSON writes as one, also where there is none.
func OrEmpty[T any](items []T) []T {
	if items == nil {
		return []T{}
	}
	return items
}

// HyperText writes a value as people type it.
func HyperText(v json.RawMessage) string {
	var s string
	if json.Unmarshal(v, &s) == nil {
		return s
	}
	var l []any
	if json.Unmarshal(v, &l) == nil {
		out, _ := json.Marshal(l)
		return string(out)
	}
	return string(v)
}

// Patience says how much patience a stop rule has left.
func Patience(s api.StopState) string {
	switch {
	case s.Stopped != nil:
		return "; it said stop " + At(&s.Stopped.At)
	case math.IsNaN(float64(s.Left)):
		return ""
	}
	return "; " + EpochsText(s.Left) + " of patience left"
}

// Indent moves each line of a text two columns in.
func Indent(text string) string { return "  " + strings.ReplaceAll(text, "\n", "\n  ") }

// Quoted writes a command so that a person sees where its words begin and end, and a shell would read it so.
func Quoted(command []string) string {
	out := make([]string, len(command))
	for i, word := range command {
		out[i] = word
		if word == "" || strings.Trim(word,
			"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_=+:,./@%") != "" {
			out[i] = "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

// OrText is a text, or another where it is empty.
func OrText(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

// Many is a count with the words for one or for several.
func Many(n int64, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return api.Thousands(n) + " " + several
}
