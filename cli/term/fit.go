package term

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// A table on a terminal is no wider than it, unless --wide was said: columns that matter least are left out, which is
// said; then a text is cut; then texts are wrapped. What is not a terminal gets everything.

const (
	gap      = 2  // columns between two of a table
	leastCut = 10 // columns of a text that is cut or wrapped
	fairCut  = 24 // columns of a text that is cut before others are left out
)

// beginning is what the lines that a long one is wrapped into stand behind: its indent, and its first word where that
// stands as in a table.
var beginning = regexp.MustCompile(`^ *(\S+ {2,})?`)

// widths are the columns that each column of a table takes.
func (l Listing) widths() []int {
	out := make([]int, len(l.Columns))
	for i, c := range l.Columns {
		out[i] = min(text.StringWidthWithoutEscSequences(c), widestCell)
		for _, r := range l.Rows {
			out[i] = max(out[i], min(text.StringWidthWithoutEscSequences(Printable(r[i])), widestCell))
		}
	}
	return out
}

// Fit is the table for so many columns, and the names of the columns that were left out.
func (l Listing) Fit(terminal int) (Listing, []string) {
	var left []string
	for _, name := range l.Spare {
		spared := 0
		if at := slices.Index(l.Columns, l.Shorten); at >= 0 {
			spared = max(0, l.widths()[at]-fairCut)
		}
		if l.over(terminal) <= spared {
			break
		}
		if at := slices.Index(l.Columns, name); at >= 0 {
			l, left = l.without(at), append(left, name)
		}
	}
	over := l.over(terminal)
	if at := slices.Index(l.Columns, l.Shorten); over > 0 && at >= 0 {
		room := max(leastCut, l.widths()[at]-over)
		l.Rows = slices.Clone(l.Rows)
		for i, r := range l.Rows {
			l.Rows[i] = slices.Clone(r)
			l.Rows[i][at] = Fit(r[at], room)
		}
	}
	widths := l.widths()
	for over = l.over(terminal); over > 0; over-- {
		widest := -1
		for i, w := range widths {
			if i > 0 && !l.Numeric[i] && w > leastCut && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 && !l.Numeric[0] && widths[0] > leastCut {
			widest = 0 // what a row is about, such as an address, stays whole while it can
		}
		if widest < 0 {
			break
		}
		if l.wrapped == nil {
			l.wrapped = map[int]int{}
		}
		widths[widest]--
		l.wrapped[widest] = widths[widest]
	}
	return l, left
}

// over is by how many columns a table is wider than there is room.
func (l Listing) over(terminal int) int {
	total := -gap
	for _, w := range l.widths() {
		total += w + gap
	}
	return total - terminal
}

// without is a table less one column.
func (l Listing) without(at int) Listing {
	out := l
	out.Columns = slices.Delete(slices.Clone(l.Columns), at, at+1)
	out.Numeric = map[int]bool{}
	for i := range l.Columns {
		if i != at && l.Numeric[i] {
			out.Numeric[i-min(1, max(0, i-at))] = true
		}
	}
	out.Rows = make([][]string, len(l.Rows))
	for i, r := range l.Rows {
		out.Rows[i] = slices.Delete(slices.Clone(r), at, at+1)
	}
	return out
}

// Table writes a table, moved in by so many columns.
func (a *App) Table(l Listing, indent int) {
	var left []string
	if IsTerminal(a.Out) && !a.wide {
		l, left = l.Fit(Width(a.Out) - indent)
	}
	in := strings.Repeat(" ", indent)
	fmt.Fprintln(a.Out, in+strings.ReplaceAll(l.Render(), "\n", "\n"+in))
	if len(left) > 0 {
		slices.Reverse(left)
		fmt.Fprintf(a.Err, "%sLeft out for want of room: %s. --wide shows all.\n", in, strings.Join(left, ", "))
	}
}

// Line writes a line, wrapped at spaces on a terminal; what goes on stands as far in as it does.
func (a *App) Line(format string, args ...any) {
	whole := fmt.Sprintf(format, args...)
	if !IsTerminal(a.Out) || a.wide {
		fmt.Fprintln(a.Out, whole)
		return
	}
	for _, line := range strings.Split(whole, "\n") {
		if text.StringWidthWithoutEscSequences(line) <= Width(a.Out) {
			fmt.Fprintln(a.Out, line)
			continue
		}
		in := beginning.FindString(line)
		for _, part := range Wrap(in, line[len(in):], Width(a.Out), 1000) {
			fmt.Fprintln(a.Out, part)
		}
	}
}
