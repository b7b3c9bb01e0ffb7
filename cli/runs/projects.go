package runs

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/core/plain"
)

// Runs makes the command runs.
func (a *Commands) Runs() *cobra.Command {
	var output, view string
	limit := 50
	in := &api.RunsInput{}
	cmd := &cobra.Command{Use: "runs PROJECT", Short: "List the runs of a project, newest first",
		Args: term.Arguments("PROJECT"),
		Long: `List the runs of a project: those that fulfil a condition, in an order. The language of --where and --sort is docs/filter.md.`,
		Example: `  kembrel runs vessels
  kembrel runs vessels --where 'best("loss.val") < 0.5 && hyper.lr <= 0.01' --sort best
  kembrel runs vessels --sort best --columns 'best,at("accuracy.val"),hyper.lr,took'
  kembrel runs vessels --where 'state == "failed" || verdict == "diverged"' --output csv > odd.csv`,
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			if limit < 0 {
				return term.Usage("--limit %d is below 0", limit)
			}
			in.ProjectInput = term.ProjectOf(p)
			if view != "" {
				if err := a.View(cmd, in, view, &in.Columns); err != nil {
					return err
				}
			}
			whole := api.Page[api.Run]{Items: []api.Run{}}
			for {
				in.Limit = 500
				if limit > 0 {
					in.Limit = min(500, limit-len(whole.Items))
				}
				page, err := client.Call(cmd.Context(), a.Client(), api.ListRuns, in)
				if err != nil {
					return err
				}
				whole.Items, whole.Next, in.Cursor = append(whole.Items, page.Items...), page.Next, page.Next
				whole.Says = page.Says
				if page.Next == "" || limit > 0 && len(whole.Items) >= limit {
					break
				}
			}
			l := term.RunTable(whole.Items, in.Columns)
			l.Empty = fmt.Sprintf("No run yet. Record one: kembrel record --project %s -- CMD", p.Project)
			if in.Where != "" {
				l.Empty = strings.TrimSpace("No run is like that. " + whole.Says)
			}
			if err := a.Print(output, l, whole); err != nil {
				return err
			}
			if whole.Next != "" && output == "table" {
				fmt.Fprintf(a.Err, "the first %d are shown; --limit 0 shows all\n", len(whole.Items))
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().IntVar(&limit, "limit", limit, "how many; 0: all")
	cmd.Flags().StringVar(&in.Where, "where", "", "only runs that fulfil this, such as 'hyper.lr <= 0.01'")
	cmd.Flags().StringVar(&in.Columns, "columns", "",
		"what to show of each, such as 'best,hyper.lr,at(\"accuracy.val\"),state'")
	cmd.Flags().StringVar(&in.Shown, "shown", "", "archived, deleted or all; otherwise runs that are neither")
	cmd.Flags().StringVar(&view, "view", "", "list them by a view that was kept; kembrel views lists those")
	cmd.Flags().StringVar(&in.Sort, "sort", "", "what to sort by: best, last, hyper.lr, started ...")
	cmd.Flags().StringVar(&in.Order, "order", "", "ascending or descending; best and last begin with the best")
	cmd.RegisterFlagCompletionFunc("where", a.CompleteFilter)
	cmd.RegisterFlagCompletionFunc("sort", a.CompleteFilter)
	return cmd
}

// Change makes the command change.
func (a *Commands) Change() *cobra.Command {
	var title, note, output string
	var tags, untag []string
	cmd := &cobra.Command{Use: "change RUN...", Short: "Change the title, tags and note of runs",
		Example: `  kembrel change vessels/3 --tag baseline --note 'The one to beat.'
  kembrel change vessels/3 vessels/4 vessels/last --tag "sea trials" --untag draft`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			var runs []api.RunInput
			for _, text := range args {
				addr, err := term.Address(text, true, false)
				if err != nil {
					return err
				}
				runs = append(runs, term.RunOf(addr))
			}
			in := &api.RunEdit{}
			if cmd.Flags().Changed("title") {
				in.Body.Title = &title
			}
			if cmd.Flags().Changed("note") {
				in.Body.Note = &note
			}
			switch {
			case len(runs) == 0:
				return term.Usage("say which runs, such as vessels/3")
			case in.Body.Title == nil && in.Body.Note == nil && len(tags)+len(untag) == 0:
				return term.Usage("say what to change: --title, --note, --tag or --untag")
			case in.Body.Title != nil && len(runs) > 1:
				return term.Usage("a title is one run's; name one run")
			}
			l := term.List("run", "title", "tags", "note")
			var changed []*api.Run
			for _, run := range runs {
				r, err := a.changeRun(cmd.Context(), run, *in, tags, untag)
				if err != nil { // what was changed before it is
					return errors.Join(err, a.Print(output, l, changed))
				}
				l.Add(r.Address, r.Title, strings.Join(r.Tags, " "), r.Note)
				changed = append(changed, r)
			}
			if len(runs) == 1 {
				return a.Print(output, l, changed[0])
			}
			return a.Print(output, l, changed)
		}}
	a.OutputFlag(cmd, &output)
	f := cmd.Flags()
	f.StringVar(&title, "title", "", "its title")
	f.StringVar(&note, "note", "", "what to remember about it")
	f.StringArrayVar(&tags, "tag", nil, "a tag to add; may be given many times")
	f.StringArrayVar(&untag, "untag", nil, "a tag to take away; may be given many times")
	return cmd
}

func (a *Commands) changeRun(ctx context.Context, run api.RunInput, in api.RunEdit, tags, untag []string) (*api.Run,
	error) {
	in.RunInput = run
	if len(tags)+len(untag) > 0 {
		r, err := client.Call(ctx, a.Client(), api.GetRun, &run)
		if err != nil {
			return nil, err
		}
		all := slices.DeleteFunc(append(slices.Clone(r.Tags), tags...),
			func(t string) bool { return slices.Contains(untag, t) })
		in.Body.Tags = &all
	}
	return client.Call(ctx, a.Client(), api.ChangeRun, &in)
}

// Show makes the command show.
func (a *Commands) Show() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "show RUN", Short: "Show a run, a project or a checkpoint",
		Args:              term.Arguments("ADDRESS"),
		Long:              "Show a run: what went in, how it is learning, what came out, what happened. The address of a project or a checkpoint shows that.",
		Example:           "  kembrel show vessels/3\n  kembrel show vessels/3@best\n  kembrel show vessels",
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := api.ParseAddress(args[0])
			switch {
			case err != nil:
				return term.Usage("%w", err)
			case addr.Run == 0:
				p, err := client.Call(cmd.Context(), a.Client(), api.GetProject,
					&api.ProjectInput{Project: addr.Project})
				if err != nil {
					return err
				}
				l := term.List("", "value")
				l.Add("project", p.Key)
				l.Add("title", p.Title)
				l.Add("objective", p.Objective.String())
				l.Add("runs", fmt.Sprintf("%d, %d running, %d lost", p.Runs, p.Running, p.Lost))
				if p.Best != nil {
					l.Add("best", fmt.Sprintf("%s by %s/%d%s", term.Figure(p.Best), p.Key, p.BestRun, term.At(p.Best)))
				}
				if output == "table" {
					moved, err := client.Call(cmd.Context(), a.Client(), api.GetImprovements,
						&api.ImprovementsInput{ProjectInput: api.ProjectInput{Project: addr.Project}})
					if err == nil { // a service of before cannot tell
						l.Add("moved", moved.Says)
					}
				}
				return a.Print(output, l, p)
			case addr.At.Kind != api.AtNone:
				c, err := client.Call(cmd.Context(), a.Client(), api.GetCheckpoint,
					&api.CheckpointInput{RunInput: term.RunOf(addr), At: addr.At.String()})
				if err != nil {
					return err
				}
				if err := a.Print(output, term.CheckpointFiles(c), c); err != nil || output != "table" {
					return err
				}
				a.showCheckpoint(c)
				return nil
			}
			r, err := client.Call(cmd.Context(), a.Client(), api.GetRun,
				&api.RunInput{ProjectInput: term.ProjectOf(addr), Number: addr.Run})
			if err != nil {
				return err
			}
			if output != "table" {
				return a.Print(output, curveTable(r), r)
			}
			a.showRun(r)
			return nil
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

func curveTable(r *api.RunDetail) term.Listing {
	l := term.List("curve", "readings#", "last#", "lowest#", "at", "highest#", "at", "NaN#")
	for _, c := range r.Curves {
		l.Add(c.Name, strconv.FormatInt(c.Count, 10), term.Figure(c.Last), term.Figure(c.Lowest), term.At(c.Lowest),
			term.Figure(c.Highest), term.At(c.Highest), strconv.FormatInt(c.NaN, 10))
	}
	return l
}

func (a *Commands) showRun(r *api.RunDetail) {
	p := a.Line
	p("%s  %s", r.Address, term.Printable(r.Title))
	state := r.State
	if !math.IsNaN(float64(r.Epoch)) {
		state += ", epoch " + term.Epoch(r.Epoch)
	}
	p("%s, step %d, started %s by %s", state, r.Step, term.When(r.Started), term.Printable(r.Who))
	p("\nHow is it learning?  %s", r.Answers.Learning)
	if v := r.Verdict; v != nil && v.Dispute != nil {
		p("  %s disputes this: %s", term.Printable(v.Dispute.Who), term.Printable(v.Dispute.Reason))
	}
	if r.Stop.Rule != nil {
		p("  stop rule of the %s: %s%s", r.Stop.From, r.Stop.Said, term.Patience(r.Stop))
	}
	if r.ExpectedEnd != nil {
		p("  expected to end %s", term.When(*r.ExpectedEnd))
	}
	own := *r // without the machine's curves: what they came to at most stands below
	own.Curves = slices.DeleteFunc(slices.Clone(r.Curves),
		func(c api.CurveInfo) bool { return curve.OfMachine(c.Name) })
	if len(own.Curves) > 0 {
		a.Table(curveTable(&own), 2)
	}
	for _, text := range r.Raised {
		p("  ! %s", term.Printable(text))
	}
	for _, w := range r.Warnings {
		p("  warning: %s", term.Printable(w))
	}
	p("\nWhat went in?  %s", r.Answers.WentIn)
	l := term.List("hyperparameter", "value")
	names := make([]string, 0, len(r.Hyper))
	for n := range r.Hyper {
		names = append(names, n)
	}
	others := map[string]string{}
	for _, u := range r.Untaken {
		others[u.Name] = "asked, not taken: " + term.HyperText(u.Asked)
		if _, used := r.Hyper[u.Name]; !used {
			names = append(names, u.Name)
		}
	}
	sort.Strings(names)
	for _, n := range names {
		value := ""
		if v, used := r.Hyper[n]; used {
			value = term.HyperText(v)
		}
		if others[n] != "" {
			value = strings.TrimSpace(value + "   " + others[n])
		}
		l.Add(n, value)
	}
	if len(names) > 0 {
		a.Table(l, 2)
	}
	c := r.Recipe
	for _, line := range [][2]string{{"command", term.Quoted(c.Command)}, {"folder", c.Folder},
		{"commit", c.Commit}, {"host", c.Host}, {"system", c.System},
		{"cpu", c.CPU}, {"language", c.Language}} {
		if line[1] != "" {
			p("  %-8s %s", line[0], term.Printable(line[1]))
		}
	}
	if c.Memory > 0 {
		p("  %-8s %s", "memory", api.Bytes(c.Memory))
	}
	p("\nWhat came out?  %s", r.Answers.CameOut)
	if r.Answers.Evaluated != "" {
		p("\nWhat did evaluations find?  %s", term.Printable(r.Answers.Evaluated))
	}
	p("\nWhat happened?  %s", r.Answers.Happened)
	for _, leg := range r.Legs {
		end := ""
		if leg.Ended != nil {
			end = ", took " + term.Took(leg.Started, leg.Ended)
		}
		from := ""
		if leg.Resumed != nil {
			from = " from " + leg.Resumed.From
		}
		if leg.Host != "" {
			from = " on " + term.Printable(leg.Host) + from
		}
		p("  leg %d%s: %s, steps %d to %d%s", leg.Number, from, leg.State, leg.FromStep,
			leg.LastStep, end)
		if leg.State == "failed" && leg.Tail != "" {
			p("%s", term.Indent(term.Indent(plain.Text(leg.Tail))))
		}
	}
	for _, n := range r.Notes {
		p("  %s  %s", term.When(n.At), plain.Text(n.Text))
	}
}

// showCheckpoint says what a checkpoint is good for and what evaluations of it gave.
func (a *Commands) showCheckpoint(c *api.Checkpoint) {
	p := a.Line
	usable := "usable for " + c.UsableFor
	if len(c.Lacks) > 0 {
		usable += "; to resume it lacks " + strings.Join(c.Lacks, ", ")
	}
	p("%s: step %d, %s, %s", c.Address, c.Step, api.Bytes(c.Size), usable)
	if c.Why != "" {
		p("saved %s: %s", term.When(c.Saved), term.Printable(c.Why))
	}
	if fate := term.FateOf(c); fate != "stays" {
		p("%s", term.Printable(fate))
	}
	if c.Replaced {
		p("a later leg began before it, so it is not of the run's present course")
	}
	for _, v := range c.Verified {
		p("%s", term.Printable(v.Says))
	}
}
