package term

import (
	"context"
	"fmt"
	"io"
	"math"
	"os"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chart"
	"kembrel/core/curve"
)

// ReadCurves reads curves; where they have no epochs and epochs are asked for, by step.
func ReadCurves(ctx context.Context, c *client.Client, in *api.CurvesInput) (*api.Curves, error) {
	found, err := client.Call(ctx, c, api.GetCurves, in)
	if err != nil || len(found.Curves) > 0 || in.By != "epoch" || in.From != 0 || in.To != 0 {
		return found, err
	}
	in.By = "step"
	return client.Call(ctx, c, api.GetCurves, in)
}

// Chart is how curves of one measure are drawn into a file: training dashed, validation solid.
func (m Measure) Chart(title, by string) chart.Chart {
	out := chart.Chart{Title: m.Name + "  ·  " + title, Axis: by}
	for i, c := range m.Curves {
		_, split := curve.SplitName(c.Name)
		label, colour := split, chart.Colours[0]
		if split != "train" && split != "val" {
			colour = chart.Colours[1+i%3]
		}
		if split == "" {
			label = c.Name
		}
		dashed := split == "train"
		if c.Label != "" { // of several runs
			label, colour, dashed = c.Label, chart.Colours[i%len(chart.Colours)], i >= len(chart.Colours)
		}
		out.Lines = append(out.Lines, chart.Line{Label: label + " " + Number(c.Last), X: c.X, Y: c.Y, Low: c.low,
			High: c.high, Dashed: dashed, Colour: colour})
	}
	return out
}

// TerminalColumns is how many readings stand beside each other.
func TerminalColumns(w io.Writer) int {
	const label = 12
	return max(20, min(Width(w), 160)-label)
}

// Measure is the curves of one measure, training first.
type Measure struct {
	Name   string
	Curves []Drawn
}

// Drawn is a curve as it is drawn: its places on the axis, its values there (smoothed, or the means of what fell
// together), and between what they lay. Values that cannot be drawn are NaN.
type Drawn struct {
	Name      string
	Label     string // "": its split
	X, Y      []float64
	low, high []float64
	Last      float64
}

// Measures groups curves by what they measure: each is drawn together over its splits.
func Measures(found *api.Curves, by string) []Measure {
	var out []Measure
	index := map[string]int{}
	for _, c := range found.Curves {
		name, _ := curve.SplitName(c.Name)
		i, ok := index[name]
		if !ok {
			i = len(out)
			index[name] = i
			out = append(out, Measure{Name: name})
		}
		out[i].Curves = append(out[i].Curves, toDrawn(c, found.Axes[c.Axis], by))
	}
	return out
}

// Drawable is how large a value may be to be drawn: beyond it the distance between two is infinite.
const Drawable = 1e300

func toDrawn(c api.Curve, axis api.Axis, by string) Drawn {
	d := Drawn{Name: c.Name, X: make([]float64, len(c.Value)), Last: c.Value[len(c.Value)-1]}
	for i := range d.X {
		switch {
		case by == "time":
			d.X[i] = float64(axis.Time[i]-axis.Time[0]) / 1000
		case by == "epoch" && !math.IsNaN(axis.Epoch[0]):
			d.X[i] = axis.Epoch[i]
		default:
			d.X[i] = float64(axis.Step[i])
		}
	}
	shown := func(values []float64) []float64 {
		out := make([]float64, len(values))
		for i, v := range values {
			if out[i] = v; math.Abs(v) > Drawable {
				out[i] = math.NaN()
			}
		}
		return out
	}
	switch {
	case len(c.Smooth) > 0:
		d.Y = shown(c.Smooth)
	case len(c.Mean) > 0:
		d.Y = shown(c.Mean)
	default:
		d.Y = shown(c.Value)
	}
	d.low, d.high = shown(c.Min), shown(c.Max)
	return d
}

// MeasureLines draws one chart for the terminal: every column a place on the axis, values between readings on a
// straight line.
func (a *App) MeasureLines(m Measure, by string, columns, height int) []string {
	low, high := math.Inf(1), math.Inf(-1)
	for _, c := range m.Curves {
		for _, x := range c.X {
			low, high = math.Min(low, x), math.Max(high, x)
		}
	}
	colours := []asciigraph.AnsiColor{asciigraph.DarkOrange, asciigraph.DodgerBlue, asciigraph.SeaGreen,
		asciigraph.Orchid, asciigraph.Goldenrod, asciigraph.IndianRed}
	marks := []string{"─", "·", "+", "x", "o", "*"} // so that lines of several runs are told apart without colours
	var series [][]float64
	var legends []string
	var used []asciigraph.AnsiColor
	var chars []asciigraph.CharSet
	finite := false
	for i, c := range m.Curves {
		line := resample(c.X, c.Y, low, high, columns)
		for _, v := range line {
			finite = finite || !math.IsNaN(v)
		}
		_, split := curve.SplitName(c.Name)
		if split == "" {
			split = c.Name
		}
		set, mark := asciigraph.DefaultCharSet, "─"
		if c.Label != "" {
			if split = c.Label; i > 0 {
				mark = marks[i%len(marks)]
				set = asciigraph.CreateCharSet(mark)
			}
		} else if split == "train" { // dotted here as it is dashed elsewhere
			set, mark = asciigraph.CreateCharSet("·"), "·"
		}
		series, used, chars = append(series, line), append(used, colours[i%len(colours)]), append(chars, set)
		legends = append(legends, fmt.Sprintf("%s%s %s %s", mark, mark, Printable(split), Number(c.Last)))
	}
	lines := []string{fmt.Sprintf("%s by %s    %s", Printable(m.Name), by, strings.Join(legends, "    "))}
	if !finite {
		return append(lines, "  no reading is a number")
	}
	options := []asciigraph.Option{asciigraph.Height(height), asciigraph.SeriesChars(chars...),
		asciigraph.YAxisValueFormatter(Number)}
	if high > low {
		options = append(options, asciigraph.XAxisRange(low, high), asciigraph.XAxisTickCount(6),
			asciigraph.XAxisValueFormatter(func(v float64) string {
				if by == "time" {
					return (time.Duration(v*10) * time.Second / 10).String()
				}
				return Number(math.Round(v*100) / 100)
			}))
	}
	if IsTerminal(a.Out) && os.Getenv("NO_COLOR") == "" {
		options = append(options, asciigraph.SeriesColors(used...))
	}
	for _, l := range strings.Split(asciigraph.PlotMany(series, options...), "\n") {
		lines = append(lines, strings.TrimRight(l, " "))
	}
	return lines
}

// resample puts a curve on evenly spaced points from low to high; NaN outside it and beside readings that are not
// finite.
func resample(x, y []float64, low, high float64, n int) []float64 {
	out := make([]float64, n)
	k := 0
	for i := range out {
		at := low + (high-low)*float64(i)/float64(n-1)
		for k+1 < len(x) && x[k+1] <= at {
			k++
		}
		v := math.NaN()
		switch {
		case len(x) == 1 || at < x[0] || at > x[len(x)-1]+1e-9:
			if len(x) == 1 && math.Abs(x[0]-at) <= (high-low)/float64(n) {
				v = y[0]
			}
		case k+1 == len(x) || x[k+1] == x[k]:
			v = y[k]
		default:
			v = y[k] + (y[k+1]-y[k])*(at-x[k])/(x[k+1]-x[k])
		}
		if math.IsInf(v, 0) {
			v = math.NaN()
		}
		out[i] = v
	}
	return out
}
