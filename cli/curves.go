package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chart"
	"kembrel/core/curve"
)

func (a *App) curves() *cobra.Command {
	var names []string
	var csvFile, jsonFile, svgFile, pngFile string
	in := &api.CurvesInput{}
	cmd := &cobra.Command{Use: "curves RUN", Short: "Draw the curves of a run, or write them to files", Args: arguments("RUN"),
		Long: `Draw the curves of a run in the terminal, one chart a measure, or write them to files ("-" is the output). Where many readings fall on
one place of the drawing, the line is their mean and, in files, a band reaches from the lowest to the highest. CSV (a row per point, a column
per curve) and JSON hold every reading, bit for bit; NaN and infinities are written as NaN, Infinity and -Infinity. kembrel export writes other formats, and many runs.`,
		Example: `  kembrel curves vessels/3
  kembrel curves vessels/3 --names loss.train,loss.val --smooth 2 --png loss.png
  kembrel curves vessels/3 --by step --from 1000 --to 2000
  kembrel curves vessels/3 --csv curves.csv`,
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := address(args[0], true, false)
			if err != nil {
				return err
			}
			if in.By != "epoch" && in.By != "step" && in.By != "time" {
				return usage("--by %q is none of epoch, step, time", in.By)
			}
			for _, n := range names {
				if err := curve.CheckName(n); err != nil {
					return usage("%w", err)
				}
			}
			in.RunInput, in.Names = runOf(addr), names
			c := a.client()
			read := func(pixels int) (*api.Curves, error) {
				in := *in
				in.Pixels = pixels
				return readCurves(cmd.Context(), c, &in)
			}
			wrote := false
			for file, write := range map[string]func(io.Writer) error{
				csvFile: func(w io.Writer) error {
					return copyHistory(cmd.Context(), c, &api.HistoryInput{ProjectInput: in.ProjectInput, Format: "csv", Runs: []int{in.Number}, Names: names}, w)
				},
				jsonFile: func(w io.Writer) error {
					found, err := read(0)
					if err != nil {
						return err
					}
					return json.NewEncoder(w).Encode(found)
				},
				svgFile: func(w io.Writer) error { return drawFound(w, "svg", addr.String(), in.By, read) },
				pngFile: func(w io.Writer) error { return drawFound(w, "png", addr.String(), in.By, read) },
			} {
				if file == "" {
					continue
				}
				if err := a.writeFile(file, write); err != nil {
					return err
				}
				wrote = true
			}
			if wrote {
				return nil
			}
			found, err := read(2 * terminalColumns(a.Out))
			if err != nil {
				return err
			}
			if len(found.Curves) == 0 {
				fmt.Fprintf(a.Out, "%s has no readings there.\n", addr)
				return nil
			}
			for _, m := range measures(found, in.By) {
				for _, l := range a.measureLines(m, in.By, terminalColumns(a.Out), 15) {
					fmt.Fprintln(raw(a.Out), l)
				}
				fmt.Fprintln(a.Out)
			}
			return a.sayLeftOut(cmd.Context(), c, in, found)
		}}
	f := cmd.Flags()
	f.StringSliceVar(&names, "names", nil, "only these curves, such as loss.train,loss.val")
	f.Float64Var(&in.From, "from", 0, "where to begin on the axis")
	f.Float64Var(&in.To, "to", 0, "where to end on the axis; 0: the end")
	f.Float64Var(&in.Smooth, "smooth", 0, "half-life of an exponential smoothing, in units of the axis; 0: none")
	f.Float64Var(&in.Median, "median", 0, "stretch of the axis for a moving median; 0: none")
	f.IntVar(&in.Leg, "leg", 0, "only what this leg recorded, with what later legs replaced; 0: the run as it is")
	f.StringVar(&in.By, "by", "epoch", "axis: epoch, step or time (milliseconds since 1970)")
	f.StringVar(&csvFile, "csv", "", "write every reading to this file as CSV, a row per point and a column per curve")
	f.StringVar(&jsonFile, "json", "", "write every reading to this file as JSON (the API's own)")
	f.StringVar(&svgFile, "svg", "", "draw into this file as SVG")
	f.StringVar(&pngFile, "png", "", "draw into this file as PNG")
	return cmd
}

// readCurves reads curves; where they have no epochs and epochs are asked for, by step.
func readCurves(ctx context.Context, c *client.Client, in *api.CurvesInput) (*api.Curves, error) {
	found, err := client.Call(ctx, c, api.GetCurves, in)
	if err != nil || len(found.Curves) > 0 || in.By != "epoch" || in.From != 0 || in.To != 0 {
		return found, err
	}
	in.By = "step"
	return client.Call(ctx, c, api.GetCurves, in)
}

// sayLeftOut names the curves that have no place on the axis, because their readings have no epochs.
func (a *App) sayLeftOut(ctx context.Context, c *client.Client, in *api.CurvesInput, found *api.Curves) error {
	if in.By != "epoch" || in.Names != nil || in.From != 0 || in.To != 0 {
		return nil
	}
	r, err := client.Call(ctx, c, api.GetRun, &in.RunInput)
	if err != nil {
		return err
	}
	var out []string
	for _, info := range r.Curves {
		if !slices.ContainsFunc(found.Curves, func(c api.Curve) bool { return c.Name == info.Name }) {
			out = append(out, printable(info.Name))
		}
	}
	if len(out) > 0 {
		fmt.Fprintf(a.Err, "without epochs, so not drawn: %s; --by step draws them\n", strings.Join(out, ", "))
	}
	return nil
}

const filePixels = 1200

func drawFound(w io.Writer, format, title, by string, read func(int) (*api.Curves, error)) error {
	found, err := read(filePixels)
	if err != nil {
		return err
	}
	all := measures(found, by)
	if len(all) == 0 {
		return fmt.Errorf("%s has no readings to draw", title)
	}
	var charts []chart.Chart
	for _, m := range all {
		charts = append(charts, m.chart(title, by))
	}
	return chart.Draw(w, format, charts)
}

// chart is how curves of one measure are drawn into a file: training dashed, validation solid.
func (m measure) chart(title, by string) chart.Chart {
	out := chart.Chart{Title: m.name + "  ·  " + title, Axis: by}
	for i, c := range m.curves {
		_, split := curve.SplitName(c.name)
		label, colour := split, chart.Colours[0]
		if split != "train" && split != "val" {
			colour = chart.Colours[1+i%3]
		}
		if split == "" {
			label = c.name
		}
		out.Lines = append(out.Lines, chart.Line{Label: label + " " + number(c.last), X: c.x, Y: c.y, Low: c.low, High: c.high, Dashed: split == "train", Colour: colour})
	}
	return out
}

// terminalColumns is how many readings stand beside each other.
func terminalColumns(w io.Writer) int {
	const label = 12
	return max(20, min(width(w), 160)-label)
}

// writeFile writes a file whole or not at all; "-" is the output.
func (a *App) writeFile(path string, write func(io.Writer) error) error {
	if path == "-" {
		return write(raw(a.Out))
	}
	f, err := os.Create(path + ".part")
	if err != nil {
		return err
	}
	if err := errors.Join(write(f), f.Close()); err != nil {
		os.Remove(f.Name())
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	fmt.Fprintln(a.Err, "wrote", path)
	return nil
}

// measure is the curves of one measure, training first.
type measure struct {
	name   string
	curves []drawn
}

// drawn is a curve as it is drawn: its places on the axis, its values there (smoothed, or the means of what fell together), and between what
// they lay. Values that cannot be drawn are NaN.
type drawn struct {
	name      string
	label     string // "": its split
	x, y      []float64
	low, high []float64
	last      float64
}

func measures(found *api.Curves, by string) []measure {
	var out []measure
	index := map[string]int{}
	for _, c := range found.Curves {
		name, _ := curve.SplitName(c.Name)
		i, ok := index[name]
		if !ok {
			i = len(out)
			index[name] = i
			out = append(out, measure{name: name})
		}
		out[i].curves = append(out[i].curves, toDrawn(c, found.Axes[c.Axis], by))
	}
	return out
}

// drawable is how large a value may be to be drawn: beyond it the distance between two is infinite.
const drawable = 1e300

func toDrawn(c api.Curve, axis api.Axis, by string) drawn {
	d := drawn{name: c.Name, x: make([]float64, len(c.Value)), last: c.Value[len(c.Value)-1]}
	for i := range d.x {
		switch {
		case by == "time":
			d.x[i] = float64(axis.Time[i]-axis.Time[0]) / 1000
		case by == "epoch" && !math.IsNaN(axis.Epoch[0]):
			d.x[i] = axis.Epoch[i]
		default:
			d.x[i] = float64(axis.Step[i])
		}
	}
	shown := func(values []float64) []float64 {
		out := make([]float64, len(values))
		for i, v := range values {
			if out[i] = v; math.Abs(v) > drawable {
				out[i] = math.NaN()
			}
		}
		return out
	}
	switch {
	case len(c.Smooth) > 0:
		d.y = shown(c.Smooth)
	case len(c.Mean) > 0:
		d.y = shown(c.Mean)
	default:
		d.y = shown(c.Value)
	}
	d.low, d.high = shown(c.Min), shown(c.Max)
	return d
}

// measureLines draws one chart for the terminal: every column a place on the axis, values between readings on a straight line.
func (a *App) measureLines(m measure, by string, columns, height int) []string {
	low, high := math.Inf(1), math.Inf(-1)
	for _, c := range m.curves {
		for _, x := range c.x {
			low, high = math.Min(low, x), math.Max(high, x)
		}
	}
	colours := []asciigraph.AnsiColor{asciigraph.DarkOrange, asciigraph.DodgerBlue, asciigraph.SeaGreen, asciigraph.Orchid, asciigraph.Goldenrod, asciigraph.IndianRed}
	marks := []string{"─", "·", "+", "x", "o", "*"} // so that lines of several runs are told apart without colours
	var series [][]float64
	var legends []string
	var used []asciigraph.AnsiColor
	var chars []asciigraph.CharSet
	finite := false
	for i, c := range m.curves {
		line := resample(c.x, c.y, low, high, columns)
		for _, v := range line {
			finite = finite || !math.IsNaN(v)
		}
		_, split := curve.SplitName(c.name)
		if split == "" {
			split = c.name
		}
		set, mark := asciigraph.DefaultCharSet, "─"
		if c.label != "" {
			if split = c.label; i > 0 {
				mark = marks[i%len(marks)]
				set = asciigraph.CreateCharSet(mark)
			}
		} else if split == "train" { // dotted here as it is dashed elsewhere
			set, mark = asciigraph.CreateCharSet("·"), "·"
		}
		series, used, chars = append(series, line), append(used, colours[i%len(colours)]), append(chars, set)
		legends = append(legends, fmt.Sprintf("%s%s %s %s", mark, mark, printable(split), number(c.last)))
	}
	lines := []string{fmt.Sprintf("%s by %s    %s", printable(m.name), by, strings.Join(legends, "    "))}
	if !finite {
		return append(lines, "  no reading is a number")
	}
	options := []asciigraph.Option{asciigraph.Height(height), asciigraph.SeriesChars(chars...), asciigraph.YAxisValueFormatter(number)}
	if high > low {
		options = append(options, asciigraph.XAxisRange(low, high), asciigraph.XAxisTickCount(6), asciigraph.XAxisValueFormatter(func(v float64) string {
			if by == "time" {
				return (time.Duration(v*10) * time.Second / 10).String()
			}
			return number(math.Round(v*100) / 100)
		}))
	}
	if isTerminal(a.Out) && os.Getenv("NO_COLOR") == "" {
		options = append(options, asciigraph.SeriesColors(used...))
	}
	for _, l := range strings.Split(asciigraph.PlotMany(series, options...), "\n") {
		lines = append(lines, strings.TrimRight(l, " "))
	}
	return lines
}

// resample puts a curve on evenly spaced points from low to high; NaN outside it and beside readings that are not finite.
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
