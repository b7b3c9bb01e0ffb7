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
	const least, widest, most = 18, 40, 28
	head := 0
	for _, r := range rows {
		head = max(head, min(most, len(r.Name)))
	}
	cell := min(widest, max(least, (wide-head)/max(1, len(c.Groups))-2))
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
			texts := slices.Clone(r.Groups)
			for i, text := range r.Groups {
				switch r.Name {
				case "commit":
					text = text[:min(len(text), 10)]
				case "command":
					text = argumentsApart(text, r.Groups)
				}
				texts[i] = strings.Trim(text, `"`)
			}
			l.Add(append([]string{shorten(r.Name, most)}, shortenApart(texts, cell)[from:to]...)...)
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

// shortenApart cuts texts so that those that differ stay apart: where they would be alike, they begin shortly before
// they differ, and where that does not help, with the place of the first that is equal, from 1.
func shortenApart(texts []string, most int) []string {
	out := make([]string, len(texts))
	for i, text := range texts {
		out[i] = shorten(text, most)
	}
	for i, alike := range alikes(texts, out) {
		common := commonRunes(append(alike, texts[i]))
		if rest := []rune(texts[i])[max(0, common-2):]; common > 3 {
			out[i] = "…" + string(rest[:min(len(rest), most-1)])
			if len(rest) > most-1 {
				out[i] = "…" + string(rest[:most-2]) + "…"
			}
		}
	}
	for i := range alikes(texts, out) {
		place := strconv.Itoa(slices.Index(texts, texts[i])+1) + " "
		out[i] = place + shorten(texts[i], most-len(place))
	}
	return out
}

// alikes are the other texts that were cut to the same, by the place of each that has such.
func alikes(texts, cut []string) map[int][]string {
	out := map[int][]string{}
	for i := range texts {
		for j := range texts {
			if texts[i] != texts[j] && cut[i] == cut[j] {
				out[i] = append(out[i], texts[j])
			}
		}
	}
	return out
}

// commonRunes is how many characters texts have in common at their beginning.
func commonRunes(texts []string) int {
	first := []rune(texts[0])
	n := len(first)
	for _, text := range texts[1:] {
		r := []rune(text)
		n = min(n, len(r))
		for i := range n {
			if r[i] != first[i] {
				n = i
				break
			}
		}
	}
	return n
}
