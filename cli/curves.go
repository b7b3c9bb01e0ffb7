package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
)

func (a *App) curves() *cobra.Command {
	var names []string
	var csvFile, jsonFile, svgFile, pngFile, by string
	in := &api.CurvesInput{}
	cmd := &cobra.Command{Use: "curves RUN", Short: "Draw the curves of a run, or write them to files", Args: arguments("RUN"),
		Long: `Draw the curves of a run in the terminal, one chart a measure, or write them to files ("-" is the output). CSV and JSON hold every
reading, bit for bit; NaN and infinities are written as NaN, Infinity and -Infinity.`,
		Example: `  kembrel curves vessels/3
  kembrel curves vessels/3 --names loss.train,loss.val --smooth 2 --png loss.png
  kembrel curves vessels/3 --csv curves.csv`,
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := address(args[0], true, false)
			if err != nil {
				return err
			}
			if by != "epoch" && by != "step" && by != "time" {
				return usage("--by %q is none of epoch, step, time", by)
			}
			for _, n := range names {
				if err := curve.CheckName(n); err != nil {
					return usage("%w", err)
				}
			}
			in.RunInput, in.Names = runOf(addr), names
			c := a.client()
			found, err := client.Call(cmd.Context(), c, api.GetCurves, in)
			if err != nil {
				return err
			}
			wrote := false
			for file, write := range map[string]func(io.Writer) error{
				csvFile:  func(w io.Writer) error { return copyCSV(cmd, c, in, w) },
				jsonFile: func(w io.Writer) error { return json.NewEncoder(w).Encode(found) },
				svgFile:  func(w io.Writer) error { return drawTo(w, "svg", addr.String(), by, measures(found)) },
				pngFile:  func(w io.Writer) error { return drawTo(w, "png", addr.String(), by, measures(found)) },
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
			if len(found.Curves) == 0 {
				fmt.Fprintf(a.Out, "%s has no readings yet.\n", addr)
				return nil
			}
			for _, m := range measures(found) {
				a.drawMeasure(m, by)
			}
			return nil
		}}
	f := cmd.Flags()
	f.StringSliceVar(&names, "names", nil, "only these curves, such as loss.train,loss.val")
	f.Int64Var(&in.From, "from", 0, "first step")
	f.Int64Var(&in.To, "to", 0, "last step; 0: to the end")
	f.Float64Var(&in.Smooth, "smooth", 0, "half-life of the smoothing, in epochs; 0: none")
	f.StringVar(&by, "by", "epoch", "axis: epoch, step or time")
	f.StringVar(&csvFile, "csv", "", "write every reading to this file as CSV")
	f.StringVar(&jsonFile, "json", "", "write every reading to this file as JSON (the API's own)")
	f.StringVar(&svgFile, "svg", "", "draw into this file as SVG")
	f.StringVar(&pngFile, "png", "", "draw into this file as PNG")
	return cmd
}

func copyCSV(cmd *cobra.Command, c *client.Client, in *api.CurvesInput, w io.Writer) error {
	body, err := client.Stream(cmd.Context(), c, api.GetCurvesCSV, in)
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = io.Copy(w, body)
	return err
}

// writeFile writes a file whole or not at all; "-" is the output.
func (a *App) writeFile(path string, write func(io.Writer) error) error {
	if path == "-" {
		return write(a.Out)
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
	curves []api.Curve
}

func measures(found *api.Curves) []measure {
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
		out[i].curves = append(out[i].curves, c)
	}
	return out
}

// points are a curve's places on the axis: epochs, or steps where epochs are unknown, or seconds since the first reading.
func points(c api.Curve, by string) []float64 {
	out := make([]float64, len(c.Step))
	for i := range out {
		switch {
		case by == "time":
			out[i] = float64(c.Time[i]-c.Time[0]) / 1000
		case by == "epoch" && !math.IsNaN(c.Epoch[0]):
			out[i] = c.Epoch[i]
		default:
			out[i] = float64(c.Step[i])
		}
	}
	return out
}

// drawable is how large a value may be to be drawn: beyond it the distance between two is infinite.
const drawable = 1e300

func shown(c api.Curve) []float64 {
	values := c.Value
	if len(c.Smooth) == len(c.Value) {
		values = c.Smooth
	}
	out := make([]float64, len(values))
	for i, v := range values {
		if out[i] = v; math.Abs(v) > drawable {
			out[i] = math.NaN()
		}
	}
	return out
}

// drawMeasure draws one chart in the terminal: every column a point of the axis, values between readings on a straight line.
func (a *App) drawMeasure(m measure, by string) {
	const label = 12
	columns := max(20, min(width(a.Out), 160)-label)
	low, high := math.Inf(1), math.Inf(-1)
	for _, c := range m.curves {
		for _, x := range points(c, by) {
			low, high = math.Min(low, x), math.Max(high, x)
		}
	}
	colours := []asciigraph.AnsiColor{asciigraph.DarkOrange, asciigraph.DodgerBlue, asciigraph.SeaGreen, asciigraph.Orchid}
	var series [][]float64
	var legends []string
	var used []asciigraph.AnsiColor
	var chars []asciigraph.CharSet
	finite := false
	for i, c := range m.curves {
		line := resample(points(c, by), shown(c), low, high, columns)
		for _, v := range line {
			finite = finite || !math.IsNaN(v)
		}
		_, split := curve.SplitName(c.Name)
		if split == "" {
			split = c.Name
		}
		set, mark := asciigraph.DefaultCharSet, "─"
		if split == "train" { // dotted here as it is dashed elsewhere
			set, mark = asciigraph.CreateCharSet("·"), "·"
		}
		last := c.Value[len(c.Value)-1]
		series, used, chars = append(series, line), append(used, colours[i%len(colours)]), append(chars, set)
		legends = append(legends, fmt.Sprintf("%s%s %s %s", mark, mark, printable(split), number(last)))
	}
	fmt.Fprintf(a.Out, "%s by %s    %s\n", printable(m.name), by, strings.Join(legends, "    "))
	if !finite {
		fmt.Fprintf(a.Out, "  no reading is a number\n\n")
		return
	}
	options := []asciigraph.Option{asciigraph.Height(15), asciigraph.SeriesChars(chars...), asciigraph.YAxisValueFormatter(number)}
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
	lines := strings.Split(asciigraph.PlotMany(series, options...), "\n")
	for _, l := range lines {
		fmt.Fprintln(a.Out, strings.TrimRight(l, " "))
	}
	fmt.Fprintln(a.Out)
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
