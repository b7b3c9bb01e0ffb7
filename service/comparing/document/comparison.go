// Package document writes what the service has computed as documents that stand alone: HTML in one file, Markdown with
// its charts beside it, CSV. It computes nothing itself, and imports api and core/chart.
package document

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	text "text/template"
	"time"

	"kembrel/api"
	"kembrel/core/chart"
	"kembrel/core/curve"
	harmless "kembrel/core/plain"
)

// Comparison is all that a document of a comparison says.
type Comparison struct {
	*api.Comparison
	Learning *api.Learning
	Mattered *api.Mattered // nil: too few runs
	Trade    *api.TradeOff // nil: not computed
	At       time.Time
}

//go:embed comparison.html
var pageText string

//go:embed comparison.md
var markdownText string

var functions = map[string]any{
	"number": number, "figure": func(f *api.Figure) string {
		if f == nil {
			return ""
		}
		return number(f.Value)
	},
	"plus": func(i int) int { return i + 1 }, "runs": joined,
	"percent": func(v api.Float) string { return strconv.FormatFloat(100*float64(v), 'f', 1, 64) },
	"cell":    shown,
	"first":   func(r api.FactRow) string { return shown(r, r.Values[0]) },
	"bar":     bar,
	"when":    func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
}

// bar is text for a cell of a Markdown table: it is neither a command for a terminal nor HTML, a link, a picture or
// code.
func bar(v string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "|", "\\|", "`", "'", "[", "\\[", "]", "\\]",
		"*", "\\*", "_", "\\_").Replace(harmless.Line(strings.ReplaceAll(v, "\n", " ")))
}

var (
	page     = template.Must(template.New("comparison").Funcs(functions).Parse(pageText))
	markdown = text.Must(text.New("comparison").Funcs(functions).Parse(markdownText))
)

func shown(r api.FactRow, v string) string {
	if r.Section == "code" && r.Name == "commit" && len(v) > 12 {
		return v[:12]
	}
	return strings.Trim(v, `"`)
}

// number writes a figure, and nothing where there is none.
func number(v api.Float) string {
	if math.IsNaN(float64(v)) {
		return ""
	}
	return curve.Number(float64(v))
}

func joined(numbers []int) string {
	parts := make([]string, len(numbers))
	for i, n := range numbers {
		parts[i] = strconv.Itoa(n)
	}
	return strings.Join(parts, ", ")
}

// drawing is a chart of the document.
type drawing struct {
	Name, Title string // file name without extension
	SVG         []byte
}

// drawings are the charts: the ranking, each curve, and each less the baseline's.
func (c *Comparison) drawings() ([]drawing, error) {
	var out []drawing
	var strips []chart.Strip
	for _, g := range c.Groups {
		count := fmt.Sprintf("%d seeds", g.Best.Count)
		if g.Best.Count == 1 {
			count = "1 run"
		}
		strips = append(strips, chart.Strip{Label: g.Label, Count: count, Value: number(g.Best.Mean),
			Points: g.Best.Values, Mean: float64(g.Best.Mean)})
	}
	var svg bytes.Buffer
	if err := chart.Strips(&svg, strips); err != nil {
		return nil, err
	}
	out = append(out, drawing{"ranking", "Best figures of each setting", bytes.Clone(svg.Bytes())})
	var names []string
	for _, l := range c.Learning.Lines {
		if !slices.Contains(names, l.Name) {
			names = append(names, l.Name)
		}
	}
	for _, name := range names {
		whole, less := chart.Chart{Title: name, Axis: c.Learning.By},
			chart.Chart{Title: fmt.Sprintf("%s less the baseline's, %s/%d", name, c.Project, c.Learning.Baseline),
				Axis: c.Learning.By}
		for _, l := range c.Learning.Lines {
			if l.Name != name {
				continue
			}
			i := c.group(l.Runs) // of one colour in all drawings
			line := chart.Line{Label: l.Label, X: l.X, Y: finite(l.Y), Low: finite(l.Low), High: finite(l.High),
				Colour: chart.Colours[i%len(chart.Colours)], Dashed: i/len(chart.Colours)%2 == 1}
			whole.Lines = append(whole.Lines, line)
			if len(l.LessX) > 0 && !l.Baseline {
				line.X, line.Y, line.Low, line.High = l.LessX, finite(l.LessY), nil, nil
				less.Lines = append(less.Lines, line)
			}
		}
		for k, drawn := range []chart.Chart{whole, less} {
			suffix := []string{"", "-less-baseline"}[k]
			if len(drawn.Lines) == 0 {
				continue
			}
			svg.Reset()
			if err := chart.Draw(&svg, "svg", []chart.Chart{drawn}); err != nil {
				return nil, err
			}
			out = append(out, drawing{strings.NewReplacer("/", "-", " ", "-").Replace(name) + suffix, drawn.Title,
				bytes.Clone(svg.Bytes())})
		}
	}
	return out, nil
}

// group is the place in the ranking of the group that some runs are of.
func (c *Comparison) group(runs []int) int {
	return max(0, slices.IndexFunc(c.Groups, func(g api.RunGroup) bool {
		return len(runs) > 0 &&
			slices.Contains(g.Runs, runs[0])
	}))
}

// Rows are what differed, as the document lists it: without commands, which differ by seed and say what stands above,
// where seeds are put together.
func (c *Comparison) Rows() []api.FactRow {
	return slices.DeleteFunc(slices.Clone(c.Differ), func(r api.FactRow) bool {
		return r.Section == "command" &&
			len(c.Groups) < len(c.Runs)
	})
}

func finite(values []float64) []float64 {
	out := slices.Clone(values)
	for i, v := range out {
		if math.Abs(v) > 1e300 {
			out[i] = math.NaN()
		}
	}
	return out
}

// Write writes the comparison as html, markdown (a zip with its charts) or csv.
func (c *Comparison) Write(w io.Writer, format string) error {
	if format == "csv" {
		return c.writeCSV(w)
	}
	drawings, err := c.drawings()
	if err != nil {
		return err
	}
	type picture struct {
		drawing
		Inline template.HTML
	}
	data := struct {
		*Comparison
		Ranking picture
		Charts  []picture
	}{Comparison: c}
	for i, d := range drawings {
		// drawn by us; labels are escaped
		p := picture{d, template.HTML(d.SVG[max(0, bytes.Index(d.SVG, []byte("<svg"))):])}
		if i == 0 {
			data.Ranking = p
		} else {
			data.Charts = append(data.Charts, p)
		}
	}
	if format == "html" {
		return page.Execute(w, data)
	}
	archive := zip.NewWriter(w)
	file, err := archive.Create("comparison.md")
	if err == nil {
		err = markdown.Execute(file, data)
	}
	for _, d := range drawings {
		if err == nil {
			if file, err = archive.Create(d.Name + ".svg"); err == nil {
				_, err = file.Write(d.SVG)
			}
		}
	}
	if err != nil {
		return err
	}
	return archive.Close()
}

// writeCSV writes a row per run: its place, its figures, what differs of what went in, what evaluations found.
func (c *Comparison) writeCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	head := []string{"run", "title", "state", "setting", "rank", "best", "best_epoch", "last", "verdict"}
	for _, r := range c.Differ {
		head = append(head, harmless.Cell(r.Section+"."+r.Name))
	}
	for _, e := range c.Evaluated {
		head = append(head, harmless.Cell(fmt.Sprintf("evaluated(%q).%s", e.On, e.Measure)))
	}
	out.Write(head)
	rank := map[int]int{}
	for k, g := range c.Groups {
		for _, n := range g.Runs {
			rank[n] = k
		}
	}
	for i, r := range c.Runs {
		best, at, last, verdict := "", "", "", ""
		if r.Best != nil {
			best, at = exact(r.Best.Value), exact(r.Best.Epoch)
		}
		if r.Last != nil {
			last = exact(r.Last.Value)
		}
		if r.Verdict != nil {
			verdict = r.Verdict.Kind
		}
		row := []string{r.Address, harmless.Cell(r.Title), r.State, harmless.Cell(c.Groups[rank[r.Number]].Label),
			strconv.Itoa(rank[r.Number] + 1), best, at, last, verdict}
		for _, f := range c.Differ {
			v := ""
			if f.Has[i] {
				v = f.Values[i]
			}
			row = append(row, unquoted(v))
		}
		for _, e := range c.Evaluated {
			v := ""
			if !math.IsNaN(float64(e.Values[i])) {
				v = exact(e.Values[i])
			}
			row = append(row, v)
		}
		out.Write(row)
	}
	out.Flush()
	return out.Error()
}

// unquoted is a value for a cell: a text without its quotes, made harmless, or a number as it is.
func unquoted(v string) string {
	var s string
	if json.Unmarshal([]byte(v), &s) == nil {
		return harmless.Cell(s)
	}
	return v
}

func exact(v api.Float) string { return strconv.FormatFloat(float64(v), 'g', -1, 64) }

// FileName is what the document is called when saved, and its media type.
func FileName(project, format string) (name, media string) {
	kinds := map[string][2]string{"html": {"html", "text/html; charset=utf-8"}, "markdown": {"zip", "application/zip"},
		"csv": {"csv", "text/csv; charset=utf-8"}}
	k := kinds[format]
	return project + "-comparison." + k[0], k[1]
}
