package compare

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kembrel/api"
	"kembrel/cli/term"
)

// fewPackages that differ are shown without being asked for.
const fewPackages = 4

// folded leaves out packages where many differ, unless they are asked for, and counts them.
func folded(rows []api.FactRow, all bool) (out []api.FactRow, packages int) {
	for _, r := range rows {
		if r.Section == "package" {
			packages++
		}
	}
	if all || packages <= fewPackages {
		return rows, 0
	}
	for _, r := range rows {
		if r.Section != "package" {
			out = append(out, r)
		}
	}
	return out, packages
}

// factTables are tables of what differs, with as many groups beside each other as there is room for. Of commands only
// the arguments that differ are shown.
func factTables(c *api.Comparison, rows []api.FactRow, wide int) []term.Listing {
	const cell, most = 18, 28
	head := 0
	for _, r := range rows {
		head = max(head, min(most, len(r.Name)))
	}
	beside := max(1, (wide-head)/(cell+2))
	labels := make([]string, len(c.Groups))
	for i, g := range c.Groups {
		labels[i] = g.Label
	}
	short := shortenApart(labels, cell)
	var out []term.Listing
	for from := 0; from < len(c.Groups) && len(rows) > 0; from += beside {
		to := min(len(c.Groups), from+beside)
		columns := []string{""}
		for i := from; i < to; i++ {
			name := short[i]
			if g := c.Groups[i]; len(g.Runs) == 1 {
				name = fmt.Sprintf("%s/%d", c.Project, g.Runs[0])
			}
			columns = append(columns, name+"#")
		}
		l := term.List(columns...)
		for _, r := range rows {
			if r.Section == "command" && len(c.Groups) < len(c.Runs) { // its arguments are above, and differ by seed
				continue
			}
			cells := []string{shorten(r.Name, most)}
			for i := from; i < to; i++ {
				text := r.Groups[i]
				switch r.Name {
				case "commit":
					text = text[:min(len(text), 10)]
				case "command":
					text = argumentsApart(text, r.Groups)
				}
				cells = append(cells, shorten(strings.Trim(text, `"`), cell))
			}
			l.Add(cells...)
		}
		out = append(out, l)
	}
	return out
}

// argumentsApart are the words of a command that not all have.
func argumentsApart(command string, all []string) string {
	var out []string
	for _, word := range strings.Fields(command) {
		if !slices.ContainsFunc(all, func(other string) bool { return !slices.Contains(strings.Fields(other), word) }) {
			continue
		}
		out = append(out, word)
	}
	return strings.Join(out, " ")
}

// shorten cuts a text in its middle: commands and paths differ at their ends.
func shorten(text string, most int) string {
	r := []rune(strings.ReplaceAll(text, "\n", " "))
	if len(r) <= most {
		return string(r)
	}
	head := most / 3
	return string(r[:head]) + "…" + string(r[len(r)-(most-head-1):])
}

// shortenApart cuts texts so that they stay apart: those that would be alike begin with their places, from 1.
func shortenApart(texts []string, most int) []string {
	out, count := make([]string, len(texts)), map[string]int{}
	for i, text := range texts {
		out[i] = shorten(text, most)
		count[out[i]]++
	}
	for i, text := range texts {
		if count[shorten(text, most)] > 1 {
			place := strconv.Itoa(i+1) + " "
			out[i] = place + shorten(text, most-len(place))
		}
	}
	return out
}
