package curves

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/chart"
	"kembrel/core/curve"
)

// Curves makes the command curves.
func (a *Commands) Curves() *cobra.Command {
	var names []string
	var output string
	var files term.Files
	in := &api.CurvesInput{}
	var machine bool
	cmd := &cobra.Command{Use: "curves RUN...", Short: "Draw the curves of runs, or write them to files",
		Long: `Draw the curves of a run in the terminal, one chart a measure and that of the objective first, or write them to files; of several runs, each curve
of all of them in one chart. The machine's own (host.cpu ...) are drawn where --machine, or their names, ask for them. Where many readings fall on
one place of the drawing, the line is their mean and, in files, a band reaches from the lowest to the highest. CSV (a row per point, a column
per curve) and JSON hold every reading, bit for bit; NaN and infinities are written as NaN, Infinity and -Infinity. kembrel export writes other formats, and many runs.`,
		Example: `  kembrel curves vessels/3
  kembrel curves vessels/3 vessels/last --names loss.val
  kembrel curves vessels/3 --names loss.train,loss.val --smooth 2 --to loss.png
  kembrel curves vessels/3 --by step --start 1000 --end 2000
  kembrel curves vessels/3 --to curves.csv`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("say which run, such as vessels/3")
			}
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			if in.By != "epoch" && in.By != "step" && in.By != "time" {
				return term.Usage("--by %q is none of epoch, step, time", in.By)
			}
			for _, n := range names {
				if err := curve.CheckName(n); err != nil {
					return term.Usage("%w", err)
				}
			}
			if err := files.Check("csv", "json", "svg", "png"); err != nil {
				return err
			}
			in.RunInput, in.Names = term.RunOf(addr), names
			c := a.Client()
			if len(args) > 1 {
				return a.together(cmd.Context(), args, in, files, output, machine)
			}
			read := func(pixels int) (*api.Curves, error) {
				in := *in
				in.Pixels = pixels
				return term.ReadCurves(cmd.Context(), c, &in)
			}
			write := map[string]func(io.Writer) error{
				"csv": func(w io.Writer) error {
					return term.CopyHistory(cmd.Context(), c,
						&api.HistoryInput{ProjectInput: in.ProjectInput, Format: "csv",
							Runs: []int{in.Number}, Names: names}, w)
				},
				"json": func(w io.Writer) error {
					found, err := read(0)
					if err != nil {
						return err
					}
					return json.NewEncoder(w).Encode(found)
				},
				"svg": func(w io.Writer) error { return drawFound(w, "svg", addr.String(), in.By, read) },
				"png": func(w io.Writer) error { return drawFound(w, "png", addr.String(), in.By, read) },
			}
			for _, file := range files.Paths {
				if err := a.WriteFile(file, write[term.Kind(file, "csv")]); err != nil {
					return err
				}
			}
			if len(files.Paths) > 0 {
				return nil
			}
			if output == "json" || output == "csv" {
				return write[output](term.Raw(a.Out))
			} else if output != "drawing" {
				return term.Usage("--output %q is none of drawing, json, csv", output)
			}
			found, err := read(2 * term.TerminalColumns(a.Out))
			if err != nil {
				return err
			}
			run, err := client.Call(cmd.Context(), c, api.GetRun, &in.RunInput)
			if err != nil {
				return err
			}
			all := inOrder(term.Measures(found, in.By), run.Objective, machine || names != nil)
			if len(all) == 0 {
				fmt.Fprintf(a.Out, "%s has no readings there.\n", addr)
				return nil
			}
			a.draw(all, in.By)
			a.sayLeftOut(run, in, found)
			return nil
		}}
	f := cmd.Flags()
	f.StringSliceVar(&names, "names", nil, "only these curves, such as loss.train,loss.val")
	cmd.RegisterFlagCompletionFunc("names", a.CompleteCurves)
	f.Float64Var(&in.From, "start", 0, "where to begin on the axis")
	f.Float64Var(&in.To, "end", 0, "where to end on the axis; 0: at its end")
	f.Float64Var(&in.Smooth, "smooth", 0, "half-life of an exponential smoothing, in units of the axis; 0: none")
	f.Float64Var(&in.Median, "median", 0, "stretch of the axis for a moving median; 0: none")
	f.IntVar(&in.Leg, "leg", 0, "only what this leg recorded, with what later legs replaced; 0: the run as it is")
	f.BoolVar(&machine, "machine", false, "the machine's own curves too (host.cpu, host.memory ...)")
	f.StringVar(&in.By, "by", "epoch", "axis: epoch, step or time (milliseconds since 1970)")
	f.StringVarP(&output, "output", "o", "drawing", "drawing, json (the API's own) or csv (a row per point, a column per curve)")
	term.FilesFlag(cmd, &files, "every reading (.csv, .json), or a drawing (.svg, .png)")
	return cmd
}

// draw draws measures in the terminal.
func (a *Commands) draw(all []term.Measure, by string) {
	for _, m := range all {
		for _, l := range a.MeasureLines(m, by, term.TerminalColumns(a.Out), 15) {
			fmt.Fprintln(term.Raw(a.Out), l)
		}
		fmt.Fprintln(a.Out)
	}
}

// inOrder puts the objective's measure first, and leaves out the machine's own unless they are wanted.
func inOrder(all []term.Measure, o api.Objective, machine bool) []term.Measure {
	measure, _ := curve.SplitName(o.Curve)
	var first, rest []term.Measure
	for _, m := range all {
		switch {
		case m.Name == measure || m.Name == o.Curve:
			first = append(first, m)
		case machine || !strings.HasPrefix(m.Name, "host."):
			rest = append(rest, m)
		}
	}
	return append(first, rest...)
}

// mostTogether is how many runs are drawn in one chart.
const mostTogether = 12

// together draws each curve of several runs in one chart.
func (a *Commands) together(ctx context.Context, args []string, in *api.CurvesInput, files term.Files, output string,
	machine bool) error {
	if len(args) > mostTogether {
		return term.Usage("%d runs are too many to tell apart in one chart; %d are drawn at most", len(args), mostTogether)
	}
	for _, file := range files.Paths {
		if kind := term.Kind(file, "csv"); kind != "svg" && kind != "png" {
			return term.Usage("--to %q: of several runs a drawing is written (.svg, .png); kembrel export writes their readings",
				file)
		}
	}
	if output != "drawing" {
		return term.Usage("--output %s is of one run; kembrel export writes the readings of several", output)
	}
	pixels := 2 * term.TerminalColumns(a.Out)
	if len(files.Paths) > 0 {
		pixels = filePixels
	}
	var all []term.Measure
	var objective api.Objective
	for i, text := range args {
		addr, err := term.Address(text, true, false)
		if err != nil {
			return err
		}
		by := in.By
		in := *in
		in.RunInput, in.Pixels = term.RunOf(addr), pixels
		found, err := term.ReadCurves(ctx, a.Client(), &in)
		if err != nil {
			return err
		}
		if in.By != by {
			return term.Usage("%s has no epochs; draw them together with --by step", addr)
		}
		if i == 0 {
			run, err := client.Call(ctx, a.Client(), api.GetRun, &in.RunInput)
			if err != nil {
				return err
			}
			objective = run.Objective
		}
		for _, m := range term.Measures(found, in.By) {
			for _, c := range m.Curves {
				c.Label = addr.String()
				k := slices.IndexFunc(all, func(m term.Measure) bool { return m.Name == c.Name })
				if k < 0 {
					k, all = len(all), append(all, term.Measure{Name: c.Name})
				}
				all[k].Curves = append(all[k].Curves, c)
			}
		}
	}
	all = inOrder(all, objective, machine || in.Names != nil)
	if len(all) == 0 {
		fmt.Fprintln(a.Out, "None of them has readings there.")
		return nil
	}
	for _, file := range files.Paths {
		var charts []chart.Chart
		for _, m := range all {
			charts = append(charts, m.Chart(strings.Join(args, ", "), in.By))
		}
		err := a.WriteFile(file, func(w io.Writer) error { return chart.Draw(w, term.Kind(file, "svg"), charts) })
		if err != nil {
			return err
		}
	}
	if len(files.Paths) == 0 {
		a.draw(all, in.By)
	}
	return nil
}

// sayLeftOut names the curves that have no place on the axis, because their readings have no epochs.
func (a *Commands) sayLeftOut(r *api.RunDetail, in *api.CurvesInput, found *api.Curves) {
	if in.By != "epoch" || in.Names != nil || in.From != 0 || in.To != 0 {
		return
	}
	var out []string
	for _, info := range r.Curves {
		if !slices.ContainsFunc(found.Curves, func(c api.Curve) bool { return c.Name == info.Name }) {
			out = append(out, term.Printable(info.Name))
		}
	}
	if len(out) > 0 {
		fmt.Fprintf(a.Err, "without epochs, so not drawn: %s; --by step draws them\n", strings.Join(out, ", "))
	}
}

const filePixels = 1200

func drawFound(w io.Writer, format, title, by string, read func(int) (*api.Curves, error)) error {
	found, err := read(filePixels)
	if err != nil {
		return err
	}
	all := term.Measures(found, by)
	if len(all) == 0 {
		return fmt.Errorf("%s has no readings to draw", title)
	}
	var charts []chart.Chart
	for _, m := range all {
		charts = append(charts, m.Chart(title, by))
	}
	return chart.Draw(w, format, charts)
}
