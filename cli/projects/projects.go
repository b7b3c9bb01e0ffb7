package projects

import (
	"fmt"
	"math"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/verdict"
)

// Projects makes the command projects.
func (a *Commands) Projects() *cobra.Command {
	var output string
	in := &api.ProjectsInput{}
	cmd := &cobra.Command{Use: "projects", Short: "List projects; create, change, archive or delete one", Args: term.Arguments(),
		Example: "  kembrel projects\n  kembrel projects create vessels --title \"Vessel classes\" --objective \"loss.val lower\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			in.Limit = 500
			items, err := client.All(cmd.Context(), a.Client(), api.ListProjects, in,
				func(in *api.ProjectsInput, c string) { in.Cursor = c })
			if err != nil {
				return err
			}
			l := term.List("project", "title", "objective", "runs#", "running#", "lost#", "best#", "by")
			l.Empty = "No project yet. Create one: kembrel projects create vessels"
			if in.Shown == "archived" {
				l.Empty = "No project is archived."
			}
			for _, p := range items {
				by := ""
				if p.BestRun > 0 {
					by = fmt.Sprintf("%s/%d%s", p.Key, p.BestRun, term.At(p.Best))
				}
				l.Add(p.Key, p.Title, p.Objective.String(), fmt.Sprint(p.Runs), fmt.Sprint(p.Running),
					fmt.Sprint(p.Lost),
					term.Figure(p.Best), by)
			}
			return a.Print(output, l, api.Page[api.Project]{Items: term.OrEmpty(items)})
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().StringVar(&in.Shown, "shown", "", "archived, or all; otherwise those that are not archived")
	cmd.AddCommand(a.projectMake(), a.projectImprovements(), a.projectChange(), a.projectArchive(), a.projectDelete())
	return cmd
}

func (a *Commands) projectMake() *cobra.Command {
	in := &api.NewProject{}
	cmd := &cobra.Command{Use: "create KEY", Short: "Create a project", Args: term.Arguments("KEY"),
		Example: "  kembrel projects create vessels --title \"Vessel classes\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Body.Key = args[0]
			if err := api.CheckNewProjectKey(args[0]); err != nil {
				return term.Usage("%w", err)
			}
			p, err := client.Call(cmd.Context(), a.Client(), api.CreateProject, in)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "created project %s, judged by %s\n", p.Key, p.Objective)
			return nil
		}}
	cmd.Flags().StringVar(&in.Body.Title, "title", "", "what it is about")
	in.Body.Objective = api.Objective{Curve: "loss.val", Direction: verdict.Lower}
	cmd.Flags().Var((*term.Objective)(&in.Body.Objective), "objective",
		"curve by which runs are judged, and its direction")
	return cmd
}

func (a *Commands) projectImprovements() *cobra.Command {
	var output string
	in := &api.ImprovementsInput{}
	cmd := &cobra.Command{Use: "improvements PROJECT", Short: "Tell how a project's best moved over time",
		Long: "Tell how a project's best moved over time: each run whose best reading of the objective beat those of " +
			"all runs before it. Runs that are archived are left out.",
		Args:              term.Arguments("PROJECT"),
		Example:           "  kembrel projects improvements vessels",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			in.ProjectInput = term.ProjectOf(p)
			found, err := client.Call(cmd.Context(), a.Client(), api.GetImprovements, in)
			if err != nil {
				return err
			}
			l := term.List("run", "best#", "better by#", "began")
			l.Empty = found.Says
			for i, m := range found.Items {
				by := ""
				if i > 0 {
					by = term.Number(math.Abs(float64(m.Best - found.Items[i-1].Best)))
				}
				l.Add(m.Run, term.Number(float64(m.Best)), by, term.When(m.Started))
			}
			if err := a.Print(output, l, found); err != nil || output != "table" || len(found.Items) == 0 {
				return err
			}
			fmt.Fprintf(a.Out, "\n%s\n", found.Says)
			return nil
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().IntVar(&in.Limit, "limit", 100, "how many at most, the newest of them; up to 500")
	return cmd
}

func (a *Commands) projectChange() *cobra.Command {
	var title string
	var objective api.Objective
	var baseline int
	var open, closed bool
	cmd := &cobra.Command{Use: "change PROJECT",
		Short: "Change a project's title, objective or baseline, or who sees it", Args: term.Arguments("PROJECT"),
		Example:           "  kembrel projects change vessels --objective \"accuracy.val higher\"",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			in := &api.ProjectEdit{ProjectInput: term.ProjectOf(p)}
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
				of := &api.BaselineInput{ProjectInput: term.ProjectOf(p)}
				of.Body.Run = baseline
				if out, err = client.Call(cmd.Context(), a.Client(), api.SetBaseline, of); err != nil {
					return err
				}
			}
			if out == nil || in.Body.Title != nil || in.Body.Objective != nil || in.Body.Open != nil {
				if out, err = client.Call(cmd.Context(), a.Client(), api.ChangeProject, in); err != nil {
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
	cmd.Flags().Var((*term.Objective)(&objective), "objective", "curve and direction, such as \"accuracy.val higher\"")
	return cmd
}

func (a *Commands) projectArchive() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{Use: "archive PROJECT", Short: "Put a project out of the way: lists leave it out",
		Args:              term.Arguments("PROJECT"),
		Long:              "Put a project out of the way. Lists leave it out; its address, its runs and what records into it go on as before.",
		Example:           "  kembrel projects archive vessels\n  kembrel projects archive vessels --undo\n  kembrel projects --shown archived",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			in, archived := &api.ProjectEdit{ProjectInput: term.ProjectOf(p)}, !undo
			in.Body.Archived = &archived
			out, err := client.Call(cmd.Context(), a.Client(), api.ChangeProject, in)
			if err != nil {
				return err
			}
			said := "is back"
			if out.Archived != nil {
				said = "is archived; --undo brings it back"
			}
			fmt.Fprintf(a.Out, "project %s %s\n", out.Key, said)
			return nil
		}}
	cmd.Flags().BoolVar(&undo, "undo", false, "bring it back")
	return cmd
}

func (a *Commands) projectDelete() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "delete PROJECT", Short: "Delete a project that has no run and no model",
		Args:              term.Arguments("PROJECT"),
		Long:              "Delete a project that has no run and no model, with the roles, views, rules and subscriptions set for it. What was done in it stays in the audit.",
		Example:           "  kembrel projects delete tryout",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			if !yes {
				ok, err := a.Confirm(fmt.Sprintf("Delete project %s?", p.Project))
				if err != nil || !ok {
					return err
				}
			}
			in := term.ProjectOf(p)
			if _, err := client.Call(cmd.Context(), a.Client(), api.DeleteProject, &in); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "project %s is deleted\n", p.Project)
			return nil
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}
