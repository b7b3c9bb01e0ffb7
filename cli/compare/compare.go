package compare

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/plain"
)

// mostDrawn is how many lines one chart in the terminal has.
const mostDrawn = 6

// compareFlags say what of a comparison is wanted.
type compareFlags struct {
	names                           []string
	by, figure, trade               string
	files                           term.Files
	same, groups, changes, packages bool
}

// Compare makes the command compare.
func (a *Commands) Compare() *cobra.Command {
	var output, project string
	var f compareFlags
	in := &api.CompareInput{}
	cmd := &cobra.Command{Use: "compare RUN...",
		Short: "Compare runs: which is best, what differed, how they learned, what mattered",
		Long: `Compare runs of a project: those named, by address or by number, or those that a filter chooses. Runs that differ only in the seed are put together, and differences are
held against the noise between seeds (docs/comparing.md). With six runs or more it also says which hyperparameters mattered.`,
		Example: `  kembrel compare vessels/3 vessels/7
  kembrel compare 3 7 12 --project vessels --baseline 3
  kembrel compare --project vessels --where 'hyper.clips == 7680' --trade-off 'best("accuracy.val"),pace'
  kembrel compare 3 7 --project vessels --to comparison.html`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if len(args) == 0 && project == "" {
				return term.Usage("say which runs, such as vessels/3 vessels/7, or --project vessels --where CONDITION")
			}
			if in.Project, in.Runs, err = term.SameProject(args, project); err != nil {
				return err
			}
			if len(args) == 1 {
				return term.Usage("one run is compared with nothing; name another, such as %s/1", in.Project)
			}
			if f.by != "epoch" && f.by != "step" && f.by != "time" {
				return term.Usage("--by %q is none of epoch, step, time", f.by)
			}
			if err := f.files.Check("csv", "html", ""); err != nil {
				return err
			}
			for _, path := range f.files.Paths {
				if err := a.writeComparison(cmd.Context(), in, path); err != nil {
					return err
				}
			}
			if len(f.files.Paths) > 0 {
				return nil
			}
			c, err := client.Call(cmd.Context(), a.Client(), api.Compare, in)
			if err != nil {
				return err
			}
			if output != "table" {
				return a.Print(output, rankTable(c), c)
			}
			if len(c.Runs) == 0 {
				fmt.Fprintln(a.Out, "No run is like that.")
				return nil
			}
			return a.showComparison(cmd.Context(), in, c, f)
		}}
	a.OutputFlag(cmd, &output)
	fl := cmd.Flags()
	fl.StringVar(&project, "project", os.Getenv("KEMBREL_PROJECT"),
		"project of runs that are given by number [KEMBREL_PROJECT]")
	fl.StringVar(&in.Where, "where", "", "compare the runs that fulfil this, such as 'hyper.lr <= 0.01'")
	fl.IntVar(&in.Baseline, "baseline", 0, "number of the run that others are held against; otherwise the project's")
	fl.StringSliceVar(&f.names, "names", nil, "curves to draw; otherwise the objective's")
	cmd.RegisterFlagCompletionFunc("names", a.CompleteCurves)
	fl.StringVar(&f.by, "by", "epoch", "axis of the chart: epoch, step or time (seconds since the start)")
	fl.BoolVar(&f.groups, "groups", false, "draw one line for each group of seeds, their mean")
	fl.BoolVar(&f.same, "same", false, "also list what all runs have in common")
	fl.BoolVar(&f.packages, "packages", false, "list the versions of packages that differ, also where many do")
	fl.BoolVar(&f.changes, "changes", false,
		"also print how the code differs: the commits, where the repository here has them, and what was not committed")
	fl.StringVar(&f.figure, "figure", "",
		"the figure that hyperparameters are weighed for; otherwise the objective's best")
	fl.StringVar(&f.trade, "trade-off", "",
		"two or three figures to hold against each other, such as 'best(\"accuracy.val\"),pace'")
	term.FilesFlag(cmd, &f.files, "a row per run (.csv), one page (.html), or, into a new folder, Markdown with its charts")
	cmd.RegisterFlagCompletionFunc("where", a.CompleteFilter)
	cmd.RegisterFlagCompletionFunc("project", a.Complete(false, false))
	return cmd
}

// evaluatedTable has a row for each measure on each data, and a column for each setting.
func evaluatedTable(c *api.Comparison) term.Listing {
	head := []string{"on", "measure"}
	for _, g := range c.Groups {
		head = append(head, g.Label+"#")
	}
	l := term.List(head...)
	for _, e := range c.Evaluated {
		row := []string{e.On, e.Measure}
		for _, g := range e.Groups {
			text := blankNaN(g.Mean)
			if g.Alarmed {
				text += " !"
			}
			row = append(row, text)
		}
		l.Add(row...)
	}
	return l
}

func rankTable(c *api.Comparison) term.Listing {
	l := term.List("rank#", "setting", "runs", "best#", "±#", "last#", "against the next")
	for i, g := range c.Groups {
		next := ""
		if m := g.Next; m != nil {
			next = signed(float64(m.Difference)) + ", " + map[bool]string{true: "beyond the noise",
				false: "not beyond the noise"}[m.Beyond]
			if m.Method == "" {
				next = signed(float64(m.Difference)) + ", one each"
			}
		}
		l.Add(strconv.Itoa(i+1), g.Label, term.JoinNumbers(g.Runs), blankNaN(g.Best.Mean), blankNaN(g.Best.Deviation),
			blankNaN(g.Last.Mean), next)
	}
	return l
}

func signed(v float64) string {
	if v > 0 {
		return "+" + term.Number(v)
	}
	return term.Number(v)
}

func blankNaN(v api.Float) string {
	if math.IsNaN(float64(v)) {
		return ""
	}
	return term.Number(float64(v))
}

// showComparison prints a comparison for people, at the terminal's width.
func (a *Commands) showComparison(ctx context.Context, in *api.CompareInput, c *api.Comparison, f compareFlags) error {
	p := a.Line
	name := c.Objective.Curve
	p("%s: %d runs of %d settings, judged by %s, %s is better", c.Project, len(c.Runs), len(c.Groups), name, c.Objective.Direction)
	if c.Left > 0 {
		p("%d more runs are chosen than there is room for; these are the best", c.Left)
	}
	p("\n%s", plain.Text("Which is best?  "+c.Answers.Best+" "+c.Answers.Apart))
	ranks := rankTable(c)
	a.Table(ranks, 2)
	if len(c.Evaluated) > 0 {
		p("\n%s", plain.Text("What did evaluations find?  "+c.Answers.Evaluated))
		l := evaluatedTable(c)
		a.Table(l, 2)
	}
	p("\n%s", plain.Text("What differed?  "+c.Answers.Differed))
	rows, packages := folded(c.Differ, f.packages)
	for _, l := range factTables(c, rows, term.Width(a.Out)-2) {
		a.Table(l, 2)
	}
	if packages > 0 {
		p("  %d packages differ; --packages shows their versions", packages)
	}
	if f.same && len(c.Same) > 0 {
		l := term.List("the same", "value")
		l.Shorten = "value"
		for _, r := range c.Same {
			l.Add(r.Section+" "+r.Name, r.Values[0])
		}
		a.Table(l, 2)
	}
	if f.changes {
		if commits := commitsOf(c); len(commits) > 1 {
			p("\n%s", a.codeDiff(ctx, commits))
		}
		for _, change := range c.Changes {
			p("\nnot committed in %s %s, on %.12s\n%s", c.Project, term.JoinNumbers(change.Runs), change.Commit,
				plain.Text(change.Patch))
		}
	}
	p("\n%s", plain.Text("How did they learn?  "+c.Answers.Learned))
	if err := a.drawLearning(ctx, in, f, name); err != nil {
		return err
	}
	if len(c.Runs) >= 6 || f.figure != "" {
		if err := a.showMattered(ctx, in, f); err != nil {
			return err
		}
	}
	if f.trade != "" {
		return a.showTradeOff(ctx, in, f)
	}
	return nil
}

// commitName is what git is given: nothing that it could take for an option.
var commitName = regexp.MustCompile(`^[0-9a-f]{7,64}$`)

// commitsOf are the different commits of what is compared, in the order of the groups.
func commitsOf(c *api.Comparison) []string {
	var out []string
	for _, r := range c.Differ {
		if r.Section != "code" || r.Name != "commit" {
			continue
		}
		for _, text := range r.Groups {
			for _, commit := range strings.Split(text, ", ") {
				if commitName.MatchString(commit) && !slices.Contains(out, commit) {
					out = append(out, commit)
				}
			}
		}
	}
	return out
}

// codeDiff is what the repository here says that changed from the first commit to each other.
func (a *Commands) codeDiff(ctx context.Context, commits []string) string {
	var out strings.Builder
	for _, other := range commits[1:] {
		text, err := exec.CommandContext(ctx, "git", "diff", "--no-color", "--no-ext-diff", commits[0], other).Output()
		if err != nil {
			fmt.Fprintf(&out, "from %.12s to %.12s: the repository here does not know both; kembrel compare --changes in it shows the difference\n", commits[0], other)
			continue
		}
		fmt.Fprintf(&out, "from %.12s to %.12s\n%s", commits[0], other, plain.Text(string(text)))
	}
	return out.String()
}

func (a *Commands) drawLearning(ctx context.Context, in *api.CompareInput, f compareFlags, objective string) error {
	ask := &api.LearningInput{CompareInput: *in, Names: f.names, By: f.by,
		Pixels: max(20, 2*term.TerminalColumns(a.Out)), Groups: f.groups}
	if len(ask.Names) == 0 {
		ask.Names = []string{objective}
	}
	found, err := client.Call(ctx, a.Client(), api.GetLearning, ask)
	if err != nil {
		return err
	}
	for _, name := range ask.Names {
		m := term.Measure{Name: name}
		left := 0
		for _, l := range found.Lines {
			if l.Name != name || len(l.Y) == 0 {
				continue
			}
			if len(m.Curves) == mostDrawn {
				left++
				continue
			}
			label := l.Label
			if len(l.Runs) == 1 {
				label = strconv.Itoa(l.Runs[0])
			}
			m.Curves = append(m.Curves, term.Drawn{Name: name, Label: shorten(label, 24), X: l.X, Y: finiteOnly(l.Y),
				Last: l.Y[len(l.Y)-1]})
		}
		if len(m.Curves) == 0 {
			fmt.Fprintf(a.Out, "  none of them has a curve %s by %s\n", term.Printable(name), f.by)
			continue
		}
		for _, line := range a.MeasureLines(m, f.by, term.TerminalColumns(a.Out), 14) {
			fmt.Fprintln(term.Raw(a.Out), line)
		}
		if left > 0 {
			fmt.Fprintf(a.Out, "  the first %d are drawn, %d more are not; --to FILE.html draws all\n", mostDrawn, left)
		}
	}
	return nil
}

func finiteOnly(values []float64) []float64 {
	out := slices.Clone(values)
	for i, v := range out {
		if math.Abs(v) > term.Drawable {
			out[i] = math.NaN()
		}
	}
	return out
}

func (a *Commands) showMattered(ctx context.Context, in *api.CompareInput, f compareFlags) error {
	m, err := client.Call(ctx, a.Client(), api.GetMattered, &api.InfluenceInput{CompareInput: *in, Figure: f.figure})
	if err != nil {
		return err
	}
	a.Line("\n%s", plain.Text("What mattered?  "+m.Says))
	l := term.List("hyperparameter", "importance#", "rank correlation#", "95 % interval", "runs#")
	for _, v := range m.Influences {
		interval := ""
		if !math.IsNaN(float64(v.Low)) {
			interval = term.Number(float64(v.Low)) + " to " + term.Number(float64(v.High))
		}
		l.Add(v.Name, term.Number(math.Round(float64(v.Importance)*1000)/1000), blankNaN(v.Correlation), interval,
			strconv.Itoa(v.Runs))
	}
	if len(l.Rows) > 0 {
		a.Table(l, 2)
	}
	return nil
}

func (a *Commands) showTradeOff(ctx context.Context, in *api.CompareInput, f compareFlags) error {
	t, err := client.Call(ctx, a.Client(), api.GetTradeOff, &api.TradeOffInput{CompareInput: *in, Figures: f.trade})
	if err != nil {
		return err
	}
	a.Line("\n%s", plain.Text("What are the trade-offs?  "+t.Says))
	columns := []string{"run", "title"}
	for i, name := range t.Figures {
		columns = append(columns, name+map[bool]string{true: " ↓#", false: " ↑#"}[t.Lower[i]])
	}
	l := term.List(append(columns, "beaten by none")...)
	l.Shorten = "title"
	for _, p := range t.Points {
		cells := []string{fmt.Sprintf("%s/%d", in.Project, p.Run), p.Title}
		for _, v := range p.Values {
			cells = append(cells, term.Number(v))
		}
		l.Add(append(cells, map[bool]string{true: "yes", false: ""}[p.Undominated])...)
	}
	a.Table(l, 2)
	return nil
}

// writeComparison writes the comparison as a document: a file, or for Markdown a folder.
func (a *Commands) writeComparison(ctx context.Context, in *api.CompareInput, path string) error {
	format := cmp.Or(term.Kind(path, "csv"), "markdown")
	body, err := client.Stream(ctx, a.Client(), api.CompareDocument,
		&api.DocumentInput{CompareInput: *in, Format: format})
	if err != nil {
		return err
	}
	defer body.Close()
	if format != "markdown" {
		return a.WriteFile(path, func(w io.Writer) error {
			_, err := io.Copy(w, body)
			return err
		})
	}
	content, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return err
	}
	if err := os.Mkdir(path, 0o755); err != nil {
		return term.Exit{Code: term.ExitExists, Err: err}
	}
	if err := os.CopyFS(path, archive); err != nil {
		return err
	}
	fmt.Fprintln(a.Err, "wrote", filepath.Join(path, "comparison.md"))
	return nil
}
