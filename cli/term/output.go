package term

import (
	"encoding/csv"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"github.com/jedib0t/go-pretty/v6/table"
	prettytext "github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/plain"
)

// CheckpointFiles lists the files of a checkpoint.
func CheckpointFiles(c *api.Checkpoint) Listing {
	l := List("part", "file", "size#", "digest")
	for _, f := range c.Files {
		l.Add(f.Part, f.Path, api.Bytes(f.Size), f.Digest)
	}
	return l
}

// rule is what the line below the head of a table is made of.
const rule = "─"

// widestCell is how wide a cell is at most; what is longer is wrapped.
const widestCell = 80

// Listing is rows under columns; numeric columns stand right.
type Listing struct {
	Columns []string
	Numeric map[int]bool
	Rows    [][]string
	Empty   string   // what to say instead of an empty table
	Spare   []string // on a terminal that is too narrow these columns are left out, one after the other
	Shorten string   // the column that is cut there

	wrapped map[int]int // so wide are columns that are wrapped
}

// OutputFlag adds --output and --wide to a command that lists.
func (a *App) OutputFlag(cmd *cobra.Command, output *string) {
	cmd.Flags().BoolVar(&a.wide, "wide", false, "all columns, uncut, where the terminal is narrower too")
	cmd.Flags().StringVarP(output, "output", "o", "table", "table, json (the API's own) or csv")
	cmd.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "csv"},
		cobra.ShellCompDirectiveNoFileComp))
}

// Print writes a listing in the form asked for; whole is the API's own answer.
func (a *App) Print(output string, l Listing, whole any) error {
	switch output {
	case "json":
		return WriteJSON(a.Out, whole)
	case "csv":
		w := csv.NewWriter(a.Out)
		w.Write(l.Columns)
		for _, r := range l.Rows {
			cells := make([]string, len(r))
			for i, c := range r {
				cells[i] = cell(c)
			}
			w.Write(cells)
		}
		w.Flush()
		return w.Error()
	case "table":
		if len(l.Rows) == 0 && l.Empty != "" {
			fmt.Fprintln(a.Out, l.Empty)
			return nil
		}
		a.Table(l, 0)
		return nil
	}
	return Usage("--output %q is none of table, json, csv", output)
}

// cell is a cell of a CSV table: numbers as they are, texts so that no spreadsheet takes them for formulas.
func cell(text string) string {
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return plain.Cell(text)
}

// Render is the listing as a table.
func (l Listing) Render() string {
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Box.MiddleHorizontal = rule
	style.Format.Header = prettytext.FormatDefault
	t.SetStyle(style)
	head := make(table.Row, len(l.Columns))
	configs := make([]table.ColumnConfig, len(l.Columns))
	for i, c := range l.Columns {
		head[i] = c
		configs[i] = table.ColumnConfig{Number: i + 1, WidthMax: widestCell, WidthMaxEnforcer: prettytext.WrapSoft}
		if most := l.wrapped[i]; most > 0 {
			configs[i].WidthMax = most
		}
		if l.Numeric[i] {
			configs[i].Align, configs[i].AlignHeader = prettytext.AlignRight, prettytext.AlignRight
		}
	}
	t.AppendHeader(head)
	t.SetColumnConfigs(configs)
	for _, r := range l.Rows {
		row := make(table.Row, len(r))
		for i, c := range r {
			row[i] = Printable(c)
		}
		t.AppendRow(row)
	}
	lines := strings.Split(t.Render(), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
		if strings.Trim(lines[i], rule) == "" {
			lines[i] = strings.TrimSuffix(lines[i], strings.Repeat(rule, gap))
		}
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

// List makes a listing; a column whose name ends with "#" is numeric.
func List(names ...string) Listing {
	l := Listing{Numeric: columns(names...)}
	for _, n := range names {
		l.Columns = append(l.Columns, strings.TrimSuffix(n, "#"))
	}
	return l
}

// Add adds a row, a cell for each column.
func (l *Listing) Add(cells ...string) { l.Rows = append(l.Rows, cells) }

// Number writes a figure: four significant digits.
func Number(v float64) string { return curve.Number(v) }

// Figure writes a figure that there may not be.
func Figure(f *api.Figure) string {
	if f == nil {
		return ""
	}
	return Number(float64(f.Value))
}

// At is where a figure stands, as in an address.
func At(f *api.Figure) string {
	switch {
	case f == nil:
		return ""
	case math.IsNaN(float64(f.Epoch)):
		return "@s" + strconv.FormatInt(f.Step, 10)
	}
	return "@e" + Number(float64(f.Epoch))
}

// Epoch writes an epoch; nothing where it is not known.
func Epoch(v api.Float) string {
	if math.IsNaN(float64(v)) {
		return ""
	}
	return Number(float64(v))
}

// EpochsText is a number of epochs in words.
func EpochsText(v api.Float) string {
	if v == 1 {
		return "1 epoch"
	}
	return Number(float64(v)) + " epochs"
}

// When writes a moment by the clock of this machine.
func When(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// Took writes how long something took, until now where it is not over.
func Took(from time.Time, to *time.Time) string {
	if to == nil {
		return ""
	}
	return to.Sub(from).Round(time.Second / 10).String()
}

// TookRun is how long a run that has ended took: the time of its legs.
func TookRun(r api.Run) string {
	if r.Ended == nil {
		return ""
	}
	return Seconds(r.Took)
}

// Seconds writes a stretch of time.
func Seconds(s float64) string {
	if math.IsNaN(s) || s == 0 {
		return ""
	}
	return time.Duration(s * float64(time.Second)).Round(time.Second / 10).String()
}

// Meter shows the progress of long work on a terminal and is quiet otherwise.
type Meter struct {
	writer  progress.Writer
	tracker *progress.Tracker
}

// Meter begins to show work of so many bytes; 0: nobody knows how many.
func (a *App) Meter(what string, total int64) *Meter {
	m := &Meter{tracker: &progress.Tracker{Message: Printable(what), Total: total, Units: progress.UnitsBytes}}
	if !IsTerminal(a.Err) {
		return m
	}
	m.writer = progress.NewWriter()
	m.writer.SetOutputWriter(Raw(a.Err))
	m.writer.SetUpdateFrequency(100 * time.Millisecond)
	m.writer.SetStyle(progress.StyleBlocks)
	m.writer.Style().Visibility.ETA = true
	m.writer.Style().Visibility.Speed = true
	m.writer.AppendTracker(m.tracker)
	go m.writer.Render()
	return m
}

// Add says that bytes are done.
func (m *Meter) Add(n int64) { m.tracker.Increment(n) }

// Set says how many bytes are done.
func (m *Meter) Set(n int64) { m.tracker.SetValue(n) }

// Done ends it.
func (m *Meter) Done() {
	if m.writer == nil {
		return
	}
	m.tracker.MarkAsDone()
	for m.writer.IsRenderInProgress() && m.writer.LengthActive() > 0 {
		time.Sleep(20 * time.Millisecond)
	}
	m.writer.Stop()
}
