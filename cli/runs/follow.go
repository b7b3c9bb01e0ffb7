package runs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/signal"
	"sort"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	tty "golang.org/x/term"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/host"
)

// Follow makes the command follow.
func (a *Commands) Follow() *cobra.Command {
	measureName := ""
	pace := time.Second
	cmd := &cobra.Command{Use: "follow RUN",
		Short: "Follow a run in the terminal: curve, figures, verdict, time left, stop rule",
		Args:  term.Arguments("RUN"),
		Long: `Follow a run while it trains. On a terminal the view is drawn anew as readings come, and Ctrl-C leaves it; in a pipe there is a line per epoch. It ends
with the run.`,
		Example:           "  kembrel follow vessels/7\n  kembrel follow vessels/7 --measure accuracy\n  kembrel follow vessels/7 > log.txt",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			f := &follower{app: a, client: a.Client(), run: term.RunOf(addr), measure: measureName,
				printed: math.Inf(-1), raised: map[string]bool{}}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			if term.IsTerminal(a.Out) {
				return f.watch(ctx, pace)
			}
			return f.print(ctx, pace)
		}}
	cmd.Flags().StringVar(&measureName, "measure", "", "the measure that is drawn; else the objective's")
	cmd.Flags().DurationVar(&pace, "every", pace, "how often to look")
	return cmd
}

type follower struct {
	app     *Commands
	client  *client.Client
	run     api.RunInput
	measure string
	printed float64         // the last epoch printed
	raised  map[string]bool // alarms that were told
	met     bool            // the service has answered once; from then on its absence is waited for
	away    bool
}

// look asks for the run; nil where a service that answered before does not answer now, for which following waits.
func (f *follower) look(ctx context.Context) (*api.RunDetail, error) {
	r, err := client.Call(ctx, f.client, api.GetRun, &f.run)
	if f.met && (errors.Is(err, client.ErrAway) || api.Is(err, api.Unavailable)) {
		if !f.away {
			f.away = true
			fmt.Fprintf(f.app.Err, "kembrel: %v; still trying\n", err)
		}
		return nil, nil
	}
	f.away, f.met = false, true
	return r, err
}

// print writes a line per epoch, once the epoch is over.
func (f *follower) print(ctx context.Context, pace time.Duration) error {
	for {
		r, err := f.look(ctx)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		if r != nil {
			over := r.State != "running"
			for _, text := range r.Raised {
				if !f.raised[text] {
					f.raised[text] = true
					fmt.Fprintf(f.app.Out, "! %s\n", term.Printable(text))
				}
			}
			if err := f.printEpochs(ctx, over); err != nil {
				return err
			}
			if over {
				_, err := fmt.Fprintf(f.app.Out, "%s  %s %s\n", r.Address, r.Answers.Happened, r.Answers.Learning)
				return err
			}
		}
		if !pause(ctx, pace) {
			return nil
		}
	}
}

func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func (f *follower) printEpochs(ctx context.Context, over bool) error {
	in := &api.CurvesInput{RunInput: f.run, By: "epoch", Width: 1}
	if !math.IsInf(f.printed, -1) {
		in.From = f.printed
	}
	found, err := client.Call(ctx, f.client, api.GetCurves, in)
	if err != nil {
		if errors.Is(err, client.ErrAway) || api.Is(err, api.Unavailable) {
			return nil
		}
		return err
	}
	type line struct {
		step   int64
		values map[string]float64
	}
	lines := map[float64]line{}
	newest := math.Inf(-1)
	for _, c := range found.Curves {
		if curve.OfMachine(c.Name) {
			continue
		}
		for i, v := range c.Value {
			axis := found.Axes[c.Axis]
			e := curve.InEpoch(axis.Epoch[i])
			newest = math.Max(newest, e)
			l, ok := lines[e]
			if !ok {
				l.values = map[string]float64{}
			}
			l.step = max(l.step, axis.Step[i])
			l.values[c.Name] = v
			lines[e] = l
		}
	}
	epochs := make([]float64, 0, len(lines))
	for e := range lines {
		if e > f.printed && (e < newest || over) {
			epochs = append(epochs, e)
		}
	}
	sort.Float64s(epochs)
	for _, e := range epochs {
		if _, err := fmt.Fprintf(f.app.Out, "epoch %s  step %d  %s\n", term.Number(e), lines[e].step,
			figures(lines[e].values)); err != nil {
			return err
		}
		f.printed = e
	}
	return nil
}

func figures(values map[string]float64) string {
	names := make([]string, 0, len(values))
	for n := range values {
		names = append(names, n)
	}
	sort.Strings(names)
	for i, n := range names {
		names[i] = term.Printable(n) + " " + term.Number(values[n])
	}
	return strings.Join(names, "  ")
}

// watch draws the view anew as readings come, on the terminal's other screen; the last one stays on the first.
func (f *follower) watch(ctx context.Context, pace time.Duration) error {
	out := term.Raw(f.app.Out)
	resized := make(chan os.Signal, 1)
	host.Resized(resized)
	defer signal.Stop(resized)
	fmt.Fprint(out, "\x1b[?1049h\x1b[?25l")
	var last []string
	var failed error
	leave := func() {
		fmt.Fprint(out, "\x1b[?25h\x1b[?1049l")
		for _, l := range last {
			fmt.Fprintln(out, l)
		}
	}
	for {
		columns, rows := terminalSize(out)
		r, err := f.look(ctx)
		if ctx.Err() != nil {
			break
		}
		if err != nil {
			failed = err
			break
		}
		if r != nil {
			view, err := f.view(ctx, r, columns, rows)
			if err != nil && ctx.Err() == nil {
				failed = err
				break
			}
			last = view
			redraw(out, view, rows)
			if r.State != "running" {
				break
			}
		}
		select {
		case <-ctx.Done():
		case <-resized:
		case <-time.After(pace):
		}
	}
	leave()
	return failed
}

func redraw(w io.Writer, lines []string, rows int) {
	var b strings.Builder
	b.WriteString("\x1b[H")
	for i, l := range lines[:min(len(lines), rows-1)] {
		if i > 0 {
			b.WriteString("\r\n")
		}
		b.WriteString(l + "\x1b[K")
	}
	b.WriteString("\x1b[J")
	io.WriteString(w, b.String())
}

func terminalSize(w io.Writer) (columns, rows int) {
	if file, ok := term.Raw(w).(*os.File); ok {
		if c, r, err := tty.GetSize(int(file.Fd())); err == nil && c > 20 && r > 6 {
			return c, r
		}
	}
	return 80, 24
}

// view is what is drawn, in at most so many lines.
func (f *follower) view(ctx context.Context, r *api.RunDetail, columns, rows int) ([]string, error) {
	top := []string{term.Fit(strings.TrimSpace(r.Address+"  "+term.Printable(r.Title)), columns),
		term.Fit(stateLine(r), columns)}
	bottom := term.Wrap("", term.Printable(r.Answers.Learning), columns, 3)
	for _, text := range r.Raised[:min(len(r.Raised), 3)] {
		bottom = append(bottom, term.Wrap("! ", term.Printable(text), columns, 2)...)
	}
	var last []string
	for _, c := range r.Curves {
		if c.Last != nil && !curve.OfMachine(c.Name) {
			last = append(last, term.Printable(c.Name)+" "+term.Figure(c.Last))
		}
	}
	bottom = append(bottom, term.Wrap("last  ", strings.Join(last, ", "), columns, 3)...)
	if r.Stop.Rule != nil {
		bottom = append(bottom,
			term.Wrap("stop rule  ", term.Printable(r.Stop.Said)+term.Patience(r.Stop), columns, 2)...)
	}
	name := f.measure
	if name == "" {
		name, _ = curve.SplitName(r.Objective.Curve)
	}
	var names []string
	for _, c := range r.Curves {
		if m, _ := curve.SplitName(c.Name); m == name {
			names = append(names, c.Name)
		}
	}
	const around = 5 // the chart's head, axis and figures, and an empty line on each side
	height := rows - 3 - len(top) - len(bottom) - around
	if len(names) == 0 || height < 3 {
		if len(names) == 0 {
			top = append(top, "", "no reading of "+term.Printable(name)+" yet")
		}
		return append(append(top, ""), bottom...), nil
	}
	found, err := term.ReadCurves(ctx, f.client, &api.CurvesInput{RunInput: f.run, Names: names, By: "epoch",
		Pixels: 2 * columns})
	if err != nil {
		return nil, err
	}
	top = append(top, "")
	for _, m := range term.Measures(found, "epoch") {
		top = append(top, f.app.MeasureLines(m, "epoch", columns-12, height)...)
	}
	return append(append(top, ""), bottom...), nil
}

func stateLine(r *api.RunDetail) string {
	text := r.State
	if !math.IsNaN(float64(r.Epoch)) {
		text += ", epoch " + term.Epoch(r.Epoch)
	}
	text += fmt.Sprintf(", step %d", r.Step)
	if r.State == "running" {
		text += ", for " + term.Seconds(r.Took+time.Since(orTime(r.Since, r.Started)).Seconds())
	} else if r.Ended != nil {
		text += ", took " + term.TookRun(r.Run)
	}
	if v := r.Verdict; v != nil && float64(v.Pace) > 0 {
		text += fmt.Sprintf(", %s s per epoch", term.Number(float64(v.Pace)))
	}
	if r.ExpectedEnd != nil {
		text += fmt.Sprintf(", ends about %s (%s left)", r.ExpectedEnd.Local().Format("15:04:05"),
			time.Until(*r.ExpectedEnd).Round(time.Second))
	}
	return text
}

func orTime(t *time.Time, other time.Time) time.Time {
	if t == nil {
		return other
	}
	return *t
}
