package cli

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/core/filter"
	"kembrel/core/plain"
)

func (a *App) projects() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "projects", Short: "List projects; make or change one", Args: arguments(),
		Example: "  kembrel projects\n  kembrel projects create vessels --title \"Vessel classes\" --objective \"loss.val lower\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			items, err := client.All(cmd.Context(), a.client(), api.ListProjects, &api.PageInput{Limit: 500}, func(in *api.PageInput, c string) { in.Cursor = c })
			if err != nil {
				return err
			}
			l := list("project", "title", "objective", "runs#", "running#", "lost#", "best#", "by")
			l.empty = "No project yet. Create one: kembrel projects create vessels"
			for _, p := range items {
				by := ""
				if p.BestRun > 0 {
					by = fmt.Sprintf("%s/%d%s", p.Key, p.BestRun, at(p.Best))
				}
				l.add(p.Key, p.Title, p.Objective, fmt.Sprint(p.Runs), fmt.Sprint(p.Running), fmt.Sprint(p.Lost), figure(p.Best), by)
			}
			return a.print(output, l, api.Page[api.Project]{Items: orEmpty(items)})
		}}
	outputFlag(cmd, &output)
	cmd.AddCommand(a.projectMake(), a.projectChange())
	return cmd
}

func orEmpty[T any](items []T) []T {
	if items == nil {
		return []T{}
	}
	return items
}

func (a *App) projectMake() *cobra.Command {
	in := &api.NewProject{}
	cmd := &cobra.Command{Use: "create KEY", Short: "Create a project", Args: arguments("KEY"),
		Example: "  kembrel projects create vessels --title \"Vessel classes\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Body.Key = args[0]
			if err := api.CheckProjectKey(args[0]); err != nil {
				return usage("%w", err)
			}
			p, err := client.Call(cmd.Context(), a.client(), api.CreateProject, in)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "made project %s, judged by %s\n", p.Key, p.Objective)
			return nil
		}}
	cmd.Flags().StringVar(&in.Body.Title, "title", "", "what it is about")
	cmd.Flags().StringVar(&in.Body.Objective, "objective", "loss.val lower", "curve by which runs are judged, and its direction")
	return cmd
}

func (a *App) projectChange() *cobra.Command {
	var title, objective string
	var baseline int
	var open, closed bool
	cmd := &cobra.Command{Use: "change PROJECT", Short: "Change a project's title, objective or baseline, or who sees it", Args: arguments("PROJECT"),
		Example:           "  kembrel projects change vessels --objective \"accuracy.val higher\"",
		ValidArgsFunction: a.complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := address(args[0], false, false)
			if err != nil {
				return err
			}
			in := &api.ProjectEdit{ProjectInput: projectOf(p)}
			if cmd.Flags().Changed("title") {
				in.Body.Title = &title
			}
			if cmd.Flags().Changed("objective") {
				in.Body.Objective = &objective
			}
			if open || closed {
				in.Body.Open = &open
			}
			var out *api.Project
			if cmd.Flags().Changed("baseline") {
				of := &api.BaselineInput{ProjectInput: projectOf(p)}
				of.Body.Run = baseline
				if out, err = client.Call(cmd.Context(), a.client(), api.SetBaseline, of); err != nil {
					return err
				}
			}
			if out == nil || in.Body.Title != nil || in.Body.Objective != nil || in.Body.Open != nil {
				if out, err = client.Call(cmd.Context(), a.client(), api.ChangeProject, in); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.Out, "project %s: %q, judged by %s", out.Key, out.Title, out.Objective)
			if out.Baseline > 0 {
				fmt.Fprintf(a.Out, ", held against %s/%d", out.Key, out.Baseline)
			}
			if !out.Open {
				fmt.Fprint(a.Out, ", closed: only those with a role on it see it")
			}
			fmt.Fprintln(a.Out)
			return nil
		}}
	cmd.Flags().StringVar(&title, "title", "", "what it is about")
	cmd.Flags().BoolVar(&open, "open", false, "everybody who is signed in sees it")
	cmd.Flags().BoolVar(&closed, "closed", false, "only those with a role on it see it")
	cmd.MarkFlagsMutuallyExclusive("open", "closed")
	cmd.Flags().IntVar(&baseline, "baseline", 0, "number of the run that others are held against; 0: none")
	cmd.Flags().StringVar(&objective, "objective", "", "curve and direction, such as \"accuracy.val higher\"")
	return cmd
}

func (a *App) runs() *cobra.Command {
	var output, view string
	limit := 50
	in := &api.RunsInput{}
	cmd := &cobra.Command{Use: "runs PROJECT", Short: "List the runs of a project, newest first", Args: arguments("PROJECT"),
		Long: `List the runs of a project: those that fulfil a condition, in an order. The language of --where and --sort is docs/filter.md.`,
		Example: `  kembrel runs vessels
  kembrel runs vessels --where 'best("loss.val") < 0.5 && hyper.lr <= 0.01' --sort best
  kembrel runs vessels --sort best --columns 'best,at("accuracy.val"),hyper.lr,took'
  kembrel runs vessels --where 'state == "failed" || verdict == "diverged"' --output csv > odd.csv`,
		ValidArgsFunction: a.complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := address(args[0], false, false)
			if err != nil {
				return err
			}
			if limit < 0 {
				return usage("--limit %d is below 0", limit)
			}
			in.ProjectInput = projectOf(p)
			if view != "" {
				if err := a.view(cmd, in, view, &in.Columns); err != nil {
					return err
				}
			}
			whole := api.Page[api.Run]{Items: []api.Run{}}
			for {
				in.Limit = 500
				if limit > 0 {
					in.Limit = min(500, limit-len(whole.Items))
				}
				page, err := client.Call(cmd.Context(), a.client(), api.ListRuns, in)
				if err != nil {
					return err
				}
				whole.Items, whole.Next, in.Cursor = append(whole.Items, page.Items...), page.Next, page.Next
				if page.Next == "" || limit > 0 && len(whole.Items) >= limit {
					break
				}
			}
			l := runTable(whole.Items, in.Columns)
			l.empty = fmt.Sprintf("No run yet. Record one: kembrel record --project %s -- CMD", p.Project)
			if in.Where != "" {
				l.empty = "No run is like that."
			}
			if err := a.print(output, l, whole); err != nil {
				return err
			}
			if whole.Next != "" && output == "table" {
				fmt.Fprintf(a.Err, "the first %d are shown; --limit 0 shows all\n", len(whole.Items))
			}
			return nil
		}}
	outputFlag(cmd, &output)
	cmd.Flags().IntVar(&limit, "limit", limit, "how many; 0: all")
	cmd.Flags().StringVar(&in.Where, "where", "", "only runs that fulfil this, such as 'hyper.lr <= 0.01'")
	cmd.Flags().StringVar(&in.Columns, "columns", "", "what to show of each, such as 'best,hyper.lr,at(\"accuracy.val\"),state'")
	cmd.Flags().StringVar(&in.Shown, "shown", "", "archived, deleted or all; otherwise runs that are neither")
	cmd.Flags().StringVar(&view, "view", "", "list them by a view that was kept; kembrel views lists those")
	cmd.Flags().StringVar(&in.Sort, "sort", "", "what to sort by: best, last, hyper.lr, started ...")
	cmd.Flags().StringVar(&in.Order, "order", "", "ascending or descending; best and last begin with the best")
	cmd.RegisterFlagCompletionFunc("where", a.completeFilter)
	cmd.RegisterFlagCompletionFunc("sort", a.completeFilter)
	return cmd
}

// runTable lists runs: what is usual, or the columns asked for.
func runTable(runs []api.Run, columns string) listing {
	if columns == "" {
		l := list("run", "title", "state", "best#", "at", "last#", "epoch#", "verdict", "hyperparameters", "who", "started", "took#")
		l.shorten = 8
		for _, r := range runs {
			l.add(r.Address, r.Title, r.State, figure(r.Best), at(r.Best), figure(r.Last), epoch(r.Epoch), verdictWord(r.Verdict), hyperLine(r.Hyper), r.Who, when(r.Started), tookRun(r))
		}
		return l
	}
	names := append([]string{"run", "title"}, filter.SplitList(columns)...)
	l := list(names...)
	l.shorten = 1
	for _, r := range runs {
		cells := []string{r.Address, r.Title}
		for i := range names[2:] {
			var v json.RawMessage
			if i < len(r.Values) {
				v = r.Values[i]
			}
			var f float64
			switch {
			case len(v) == 0 || string(v) == "null":
				cells = append(cells, "")
				continue
			case json.Unmarshal(v, &f) == nil:
				cells = append(cells, number(f))
				l.numeric[2+i] = true
			default:
				cells = append(cells, valueText(names[2+i], hyperText(v)))
			}
		}
		l.add(cells...)
	}
	return l
}

// valueText is how a table writes what a field says: times as everywhere, commits by their beginning.
func valueText(field, text string) string {
	at, err := time.Parse(time.RFC3339, text)
	switch {
	case (field == "started" || field == "ended") && err == nil:
		return when(at)
	case field == "commit" && len(text) > 12:
		return text[:12]
	}
	return text
}

func (a *App) change() *cobra.Command {
	var title, note, output string
	var tags, untag []string
	cmd := &cobra.Command{Use: "change RUN", Short: "Change a run's title, tags and note", Args: arguments("RUN"),
		Example:           "  kembrel change vessels/3 --tag baseline --note 'The one to beat.'",
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := address(args[0], true, false)
			if err != nil {
				return err
			}
			in := &api.RunEdit{RunInput: runOf(addr)}
			if cmd.Flags().Changed("title") {
				in.Body.Title = &title
			}
			if cmd.Flags().Changed("note") {
				in.Body.Note = &note
			}
			if len(tags)+len(untag) > 0 {
				r, err := client.Call(cmd.Context(), a.client(), api.GetRun, &in.RunInput)
				if err != nil {
					return err
				}
				all := slices.DeleteFunc(append(slices.Clone(r.Tags), tags...), func(t string) bool { return slices.Contains(untag, t) })
				in.Body.Tags = &all
			}
			if in.Body.Title == nil && in.Body.Note == nil && in.Body.Tags == nil {
				return usage("say what to change: --title, --note, --tag or --untag")
			}
			r, err := client.Call(cmd.Context(), a.client(), api.ChangeRun, in)
			if err != nil {
				return err
			}
			l := list("run", "title", "tags", "note")
			l.add(r.Address, r.Title, strings.Join(r.Tags, " "), r.Note)
			return a.print(output, l, r)
		}}
	outputFlag(cmd, &output)
	f := cmd.Flags()
	f.StringVar(&title, "title", "", "its title")
	f.StringVar(&note, "note", "", "what to remember about it")
	f.StringArrayVar(&tags, "tag", nil, "a tag to add; may be given many times")
	f.StringArrayVar(&untag, "untag", nil, "a tag to take away; may be given many times")
	return cmd
}

func verdictWord(v *api.Verdict) string {
	switch {
	case v == nil:
		return ""
	case v.Dispute != nil:
		return v.Kind + " (disputed)"
	}
	return v.Kind
}

func hyperLine(h map[string]json.RawMessage) string {
	names := make([]string, 0, len(h))
	for n := range h {
		names = append(names, n)
	}
	sort.Strings(names)
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = n + "=" + hyperText(h[n])
	}
	return strings.Join(parts, " ")
}

// hyperText writes a value as people type it.
func hyperText(v json.RawMessage) string {
	var s string
	if json.Unmarshal(v, &s) == nil {
		return s
	}
	var l []any
	if json.Unmarshal(v, &l) == nil {
		out, _ := json.Marshal(l)
		return string(out)
	}
	return string(v)
}

func (a *App) show() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "show RUN", Short: "Show a run, a project or a checkpoint", Args: arguments("ADDRESS"),
		Long:              "Show a run: what went in, how it is learning, what came out, what happened. The address of a project or a checkpoint shows that.",
		Example:           "  kembrel show vessels/3\n  kembrel show vessels/3@best\n  kembrel show vessels",
		ValidArgsFunction: a.complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := api.ParseAddress(args[0])
			switch {
			case err != nil:
				return usage("%w", err)
			case addr.Run == 0:
				p, err := client.Call(cmd.Context(), a.client(), api.GetProject, &api.ProjectInput{Project: addr.Project})
				if err != nil {
					return err
				}
				l := list("", "value")
				l.add("project", p.Key)
				l.add("title", p.Title)
				l.add("objective", p.Objective)
				l.add("runs", fmt.Sprintf("%d, %d running, %d lost", p.Runs, p.Running, p.Lost))
				if p.Best != nil {
					l.add("best", fmt.Sprintf("%s by %s/%d%s", figure(p.Best), p.Key, p.BestRun, at(p.Best)))
				}
				return a.print(output, l, p)
			case addr.At.Kind != api.AtNone:
				c, err := client.Call(cmd.Context(), a.client(), api.GetCheckpoint, &api.CheckpointInput{RunInput: runOf(addr), At: addr.At.String()})
				if err != nil {
					return err
				}
				if err := a.print(output, checkpointFiles(c), c); err != nil || output != "table" {
					return err
				}
				a.showCheckpoint(c)
				return nil
			}
			r, err := client.Call(cmd.Context(), a.client(), api.GetRun, &api.RunInput{ProjectInput: projectOf(addr), Number: addr.Run})
			if err != nil {
				return err
			}
			if output != "table" {
				return a.print(output, curveTable(r), r)
			}
			a.showRun(r)
			return nil
		}}
	outputFlag(cmd, &output)
	return cmd
}

func curveTable(r *api.RunDetail) listing {
	l := list("curve", "readings#", "last#", "lowest#", "at", "highest#", "at", "NaN#")
	for _, c := range r.Curves {
		l.add(c.Name, strconv.FormatInt(c.Count, 10), figure(c.Last), figure(c.Lowest), at(c.Lowest), figure(c.Highest), at(c.Highest), strconv.FormatInt(c.NaN, 10))
	}
	return l
}

func (a *App) showRun(r *api.RunDetail) {
	p := func(format string, args ...any) { fmt.Fprintf(a.Out, format+"\n", args...) }
	p("%s  %s", r.Address, printable(r.Title))
	state := r.State
	if !math.IsNaN(float64(r.Epoch)) {
		state += ", epoch " + epoch(r.Epoch)
	}
	p("%s, step %d, started %s by %s", state, r.Step, when(r.Started), printable(r.Who))
	p("\nHow is it learning?  %s", r.Answers.Learning)
	if v := r.Verdict; v != nil && v.Dispute != nil {
		p("  %s disputes this: %s", printable(v.Dispute.Who), printable(v.Dispute.Reason))
	}
	if r.Stop.Rule != nil {
		p("  stop rule of the %s: %s%s", r.Stop.From, r.Stop.Said, patience(r.Stop))
	}
	if r.ExpectedEnd != nil {
		p("  expected to end %s", when(*r.ExpectedEnd))
	}
	own := *r // without the machine's curves: what they came to at most stands below
	own.Curves = slices.DeleteFunc(slices.Clone(r.Curves), func(c api.CurveInfo) bool { return curve.OfMachine(c.Name) })
	if len(own.Curves) > 0 {
		p("%s", indent(curveTable(&own).render()))
	}
	for _, w := range r.Warnings {
		p("  warning: %s", printable(w))
	}
	p("\nWhat went in?  %s", r.Answers.WentIn)
	l := list("hyperparameter", "value")
	names := make([]string, 0, len(r.Hyper))
	for n := range r.Hyper {
		names = append(names, n)
	}
	others := map[string]string{}
	for _, u := range r.Untaken {
		others[u.Name] = "asked, not taken: " + hyperText(u.Asked)
		if _, used := r.Hyper[u.Name]; !used {
			names = append(names, u.Name)
		}
	}
	sort.Strings(names)
	for _, n := range names {
		value := ""
		if v, used := r.Hyper[n]; used {
			value = hyperText(v)
		}
		if others[n] != "" {
			value = strings.TrimSpace(value + "   " + others[n])
		}
		l.add(n, value)
	}
	if len(names) > 0 {
		p("%s", indent(l.render()))
	}
	c := r.Recipe
	p("  command  %s", printable(quoted(c.Command)))
	for _, line := range [][2]string{{"folder", c.Folder}, {"commit", c.Commit}, {"host", c.Host}, {"system", c.System}, {"cpu", c.CPU}, {"language", c.Language}} {
		if line[1] != "" {
			p("  %-8s %s", line[0], printable(line[1]))
		}
	}
	if c.Memory > 0 {
		p("  %-8s %s", "memory", api.Bytes(c.Memory))
	}
	p("\nWhat came out?  %s", r.Answers.CameOut)
	p("\nWhat happened?  %s", r.Answers.Happened)
	for _, leg := range r.Legs {
		end := ""
		if leg.Ended != nil {
			end = ", took " + took(leg.Started, leg.Ended)
		}
		from := ""
		if leg.Resumed != nil {
			from = " from " + leg.Resumed.From
		}
		p("  leg %d on %s%s: %s, steps %d to %d%s", leg.Number, printable(leg.Host), from, leg.State, leg.FromStep, leg.LastStep, end)
		if leg.State == "failed" && leg.Tail != "" {
			p("%s", indent(indent(plain.Text(leg.Tail))))
		}
	}
	for _, n := range r.Notes {
		p("  %s  %s", when(n.At), plain.Text(n.Text))
	}
}

// showCheckpoint says what a checkpoint is good for and what evaluations of it gave.
func (a *App) showCheckpoint(c *api.Checkpoint) {
	p := func(format string, args ...any) { fmt.Fprintf(a.Out, format+"\n", args...) }
	fit := "fit to " + c.Fit
	if len(c.Lacks) > 0 {
		fit += "; to resume it lacks " + strings.Join(c.Lacks, ", ")
	}
	p("%s: step %d, %s, %s", c.Address, c.Step, api.Bytes(c.Size), fit)
	if c.Why != "" {
		p("saved %s: %s", when(c.Saved), printable(c.Why))
	}
	if fate := fateOf(c); fate != "stays" {
		p("%s", printable(fate))
	}
	if c.Replaced {
		p("a later leg began before it, so it is not of the run's present course")
	}
	for _, v := range c.Verified {
		p("%s", printable(v.Says))
	}
}

func patience(s api.StopState) string {
	switch {
	case s.Stopped != nil:
		return "; it said stop " + at(&s.Stopped.At)
	case math.IsNaN(float64(s.Left)):
		return ""
	}
	return "; " + epochsText(s.Left) + " of patience left"
}

func indent(text string) string { return "  " + strings.ReplaceAll(text, "\n", "\n  ") }
