package cli

import (
	"encoding/csv"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/jedib0t/go-pretty/v6/table"
	prettytext "github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/plain"
)

// listing is rows under columns; numeric columns stand right.
type listing struct {
	columns []string
	numeric map[int]bool
	rows    [][]string
	empty   string // what to say instead of an empty table
	shorten int    // the column that is cut, on a terminal, where the table is wider than it; 0: none
}

func outputFlag(cmd *cobra.Command, output *string) {
	cmd.Flags().StringVarP(output, "output", "o", "table", "table, json (the API's own) or csv")
	cmd.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "csv"}, cobra.ShellCompDirectiveNoFileComp))
}

// print writes a listing in the form asked for; whole is the API's own answer.
func (a *App) print(output string, l listing, whole any) error {
	switch output {
	case "json":
		return writeJSON(a.Out, whole)
	case "csv":
		w := csv.NewWriter(a.Out)
		w.Write(l.columns)
		for _, r := range l.rows {
			cells := make([]string, len(r))
			for i, c := range r {
				cells[i] = cell(c)
			}
			w.Write(cells)
		}
		w.Flush()
		return w.Error()
	case "table":
		if len(l.rows) == 0 && l.empty != "" {
			fmt.Fprintln(a.Out, l.empty)
			return nil
		}
		if isTerminal(a.Out) {
			l.fit(width(a.Out))
		}
		fmt.Fprintln(a.Out, l.render())
		return nil
	}
	return usage("--output %q is none of table, json, csv", output)
}

// cell is a cell of a CSV table: numbers as they are, texts so that no spreadsheet takes them for formulas.
func cell(text string) string {
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return plain.Cell(text)
}

// fit cuts the column that may be cut until the table is no wider than a terminal.
func (l *listing) fit(terminal int) {
	if l.shorten == 0 {
		return
	}
	total, cut := 0, 0
	for i := range l.columns {
		widest := utf8.RuneCountInString(l.columns[i])
		for _, r := range l.rows {
			widest = max(widest, utf8.RuneCountInString(r[i]))
		}
		total += widest + 2
		if i == l.shorten {
			cut = widest
		}
	}
	if total <= terminal {
		return
	}
	room := max(10, cut-(total-terminal))
	for _, r := range l.rows {
		if text := []rune(r[l.shorten]); len(text) > room {
			r[l.shorten] = string(text[:room-1]) + "…"
		}
	}
}

func (l listing) render() string {
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Box.MiddleHorizontal = "─"
	style.Format.Header = prettytext.FormatDefault
	t.SetStyle(style)
	head := make(table.Row, len(l.columns))
	configs := make([]table.ColumnConfig, len(l.columns))
	for i, c := range l.columns {
		head[i] = c
		configs[i] = table.ColumnConfig{Number: i + 1, WidthMax: 80, WidthMaxEnforcer: prettytext.WrapSoft}
		if l.numeric[i] {
			configs[i].Align, configs[i].AlignHeader = prettytext.AlignRight, prettytext.AlignRight
		}
	}
	t.AppendHeader(head)
	t.SetColumnConfigs(configs)
	for _, r := range l.rows {
		row := make(table.Row, len(r))
		for i, c := range r {
			row[i] = printable(c)
		}
		t.AppendRow(row)
	}
	lines := strings.Split(t.Render(), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}

func columns(names ...string) map[int]bool { // the numeric ones are those that end with "#"
	out := map[int]bool{}
	for i, n := range names {
		if strings.HasSuffix(n, "#") {
			out[i] = true
		}
	}
	return out
}

// list makes a listing; a column whose name ends with "#" is numeric.
func list(names ...string) listing {
	l := listing{numeric: columns(names...)}
	for _, n := range names {
		l.columns = append(l.columns, strings.TrimSuffix(n, "#"))
	}
	return l
}

func (l *listing) add(cells ...string) { l.rows = append(l.rows, cells) }

func number(v float64) string { return curve.Number(v) }

func figure(f *api.Figure) string {
	if f == nil {
		return ""
	}
	return number(float64(f.Value))
}

// at is where a figure stands, as in an address.
func at(f *api.Figure) string {
	switch {
	case f == nil:
		return ""
	case math.IsNaN(float64(f.Epoch)):
		return "@s" + strconv.FormatInt(f.Step, 10)
	}
	return "@e" + number(float64(f.Epoch))
}

func epoch(v api.Float) string {
	if math.IsNaN(float64(v)) {
		return ""
	}
	return number(float64(v))
}

// epochsText is a number of epochs in words.
func epochsText(v api.Float) string {
	if v == 1 {
		return "1 epoch"
	}
	return number(float64(v)) + " epochs"
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

func took(from time.Time, to *time.Time) string {
	if to == nil {
		return ""
	}
	return to.Sub(from).Round(time.Second / 10).String()
}

// tookRun is how long a run that has ended took: the time of its legs.
func tookRun(r api.Run) string {
	if r.Ended == nil {
		return ""
	}
	return seconds(r.Took)
}

// seconds writes a stretch of time.
func seconds(s float64) string {
	if math.IsNaN(s) || s == 0 {
		return ""
	}
	return time.Duration(s * float64(time.Second)).Round(time.Second / 10).String()
}

// meter shows the progress of long work on a terminal and is quiet otherwise.
type meter struct {
	writer  progress.Writer
	tracker *progress.Tracker
}

func (a *App) meter(what string, total int64) *meter {
	m := &meter{tracker: &progress.Tracker{Message: printable(what), Total: total, Units: progress.UnitsBytes}}
	if !isTerminal(a.Err) {
		return m
	}
	m.writer = progress.NewWriter()
	m.writer.SetOutputWriter(raw(a.Err))
	m.writer.SetUpdateFrequency(100 * time.Millisecond)
	m.writer.SetStyle(progress.StyleBlocks)
	m.writer.Style().Visibility.ETA = true
	m.writer.Style().Visibility.Speed = true
	m.writer.AppendTracker(m.tracker)
	go m.writer.Render()
	return m
}

// Meter is meter for commands from elsewhere: what to call with bytes that are done, and at the end.
func (a *App) Meter(what string, total int64) (add func(int64), done func()) {
	m := a.meter(what, total)
	return m.add, m.done
}

func (m *meter) add(n int64) { m.tracker.Increment(n) }

func (m *meter) done() {
	if m.writer == nil {
		return
	}
	m.tracker.MarkAsDone()
	for m.writer.IsRenderInProgress() && m.writer.LengthActive() > 0 {
		time.Sleep(20 * time.Millisecond)
	}
	m.writer.Stop()
}
