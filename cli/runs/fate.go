package runs

import (
	"context"
	"fmt"
	"net/url"
	"slices"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Archive makes the command archive.
func (a *Commands) Archive() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{Use: "archive RUN...", Short: "Put runs out of the way, or bring them back",
		Long:              "Put runs out of the way: lists leave them out unless asked (kembrel runs --shown archived), all else stays as it is. --undo brings them back.",
		Example:           "  kembrel archive vessels/4 vessels/5\n  kembrel archive --undo vessels/4",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.eachRun(args, func(in api.RunInput) (string, error) {
				r, err := client.Call(cmd.Context(), a.Client(), api.ArchiveRun,
					&api.ArchiveInput{RunInput: in, Body: struct {
						Archived bool `json:"archived"`
					}{!undo}})
				if err != nil {
					return "", err
				}
				if r.Archived == nil {
					return "is back", nil
				}
				return "is archived", nil
			})
		}}
	cmd.Flags().BoolVar(&undo, "undo", false, "bring them back")
	return cmd
}

// DeleteRun makes the command delete.
func (a *Commands) DeleteRun() *cobra.Command {
	var undo bool
	days := 7.0
	cmd := &cobra.Command{Use: "delete RUN...", Short: "Delete runs after a grace period, or call that off",
		Long: `Delete runs: at once they are out of every list, and after a grace period of some days they are gone with their curves and checkpoints. Until then --undo
brings them back, and kembrel runs --shown deleted lists them. A run is deleted by whoever made it, or by an
administrator.`,
		Example:           "  kembrel delete vessels/4\n  kembrel delete --undo vessels/4\n  kembrel delete --days 0 vessels/4",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if days < 0 || days > 365 {
				return term.Usage("--days %g: from 0 to 365", days)
			}
			return a.eachRun(args, func(in api.RunInput) (string, error) {
				if undo {
					_, err := client.Call(cmd.Context(), a.Client(), api.KeepRun, &in)
					return "stays", err
				}
				// The client leaves zero values out, and the service's default would take their place.
				r, err := client.Call(cmd.Context(), a.Client(), api.DeleteRun,
					&api.LeaveInput{RunInput: in, Days: max(days, 1e-9)})
				if err != nil {
					return "", err
				}
				return "will be gone " + term.When(*r.DeleteAt), nil
			})
		}}
	cmd.Flags().Float64Var(&days, "days", days, "until they are gone")
	cmd.Flags().BoolVar(&undo, "undo", false, "bring them back")
	return cmd
}

// eachRun does something with every run that is named and says what came of it.
func (a *Commands) eachRun(args []string, do func(in api.RunInput) (string, error)) error {
	if len(args) == 0 {
		return term.Usage("say which runs, such as vessels/4")
	}
	var runs []api.Address
	for _, text := range args {
		addr, err := term.Address(text, true, false)
		if err != nil {
			return err
		}
		runs = append(runs, addr)
	}
	for _, r := range runs {
		said, err := do(term.RunOf(r))
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s %s\n", r, said)
	}
	return nil
}

// Views makes the command views.
func (a *Commands) Views() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "views PROJECT", Short: "List the kept views of a project's runs; keep or drop one",
		Args:              term.Arguments("PROJECT"),
		Long:              "List the kept views of a project's runs: one's own and the project's. The console's View keeps them too; kembrel runs --view NAME lists runs by one.",
		Example:           "  kembrel views vessels\n  kembrel views keep vessels night --where '\"night\" in tags' --sort best\n  kembrel runs vessels --view night",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			in := term.ProjectOf(p)
			found, err := client.Call(cmd.Context(), a.Client(), api.ListViews, &in)
			if err != nil {
				return err
			}
			l := term.List("view", "of", "changed", "look")
			l.Shorten, l.Empty = "look", "No view is kept. Keep one: kembrel views keep "+p.Project+" NAME --where CONDITION"
			for _, v := range found.Items {
				of := "you"
				if v.Everybody {
					of = "everybody"
				}
				l.Add(v.Name, of, term.When(v.Changed), v.Look)
			}
			return a.Print(output, l, found)
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.keepView(), a.dropView())
	return cmd
}

func (a *Commands) keepView() *cobra.Command {
	look := map[string]*string{}
	in := &api.ViewInput{}
	cmd := &cobra.Command{Use: "keep PROJECT NAME", Short: "Keep a way to look at a project's runs under a name",
		Args: term.Arguments("PROJECT", "NAME"),
		Long: `Keep a filter, an order and columns under a name, for oneself or (--everybody) for the project; one of the name is replaced. The console has it under View.`,
		Example: `  kembrel views keep vessels night --where '"night" in tags' --sort best
  kembrel views keep vessels slow --where 'took > "1h"' --columns 'best,took,hyper.lr' --everybody`,
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			in.ProjectInput, in.Body.Name = term.ProjectOf(p), args[1]
			try := &api.RunsInput{ProjectInput: in.ProjectInput, Columns: *look["columns"],
				PageInput: api.PageInput{Limit: 1}, RunChoice: api.RunChoice{Where: *look["where"],
					Sort: *look["sort"], Order: *look["order"], Shown: *look["shown"]}}
			if _, err := client.Call(cmd.Context(), a.Client(), api.ListRuns, try); err != nil {
				return err // what is wrong with it is said now
			}
			query := url.Values{}
			for name, value := range look {
				if *value != "" {
					query.Set(name, *value)
				}
			}
			in.Body.Look = query.Encode()
			v, err := client.Call(cmd.Context(), a.Client(), api.KeepView, in)
			if err == nil {
				fmt.Fprintf(a.Out, "kept: kembrel runs %s --view %q\n", p.Project, v.Name)
			}
			return err
		}}
	for name, usage := range map[string]string{"where": "only runs that fulfil this (docs/filter.md)",
		"sort": "what to sort by", "order": "ascending or descending", "shown": "archived, deleted or all",
		"columns": "values of each run, such as 'best,hyper.lr,took'"} {
		look[name] = cmd.Flags().String(name, "", usage)
	}
	cmd.Flags().BoolVar(&in.Body.Everybody, "everybody", false, "for everybody in the project")
	cmd.RegisterFlagCompletionFunc("where", a.CompleteFilter)
	return cmd
}

func (a *Commands) dropView() *cobra.Command {
	var everybody bool
	cmd := &cobra.Command{Use: "drop PROJECT NAME", Short: "Drop a kept view", Args: term.Arguments("PROJECT", "NAME"),
		Example:           "  kembrel views drop vessels night",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			in := term.ProjectOf(p)
			found, err := client.Call(cmd.Context(), a.Client(), api.ListViews, &in)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(found.Items,
				func(v api.View) bool { return v.Name == args[1] && v.Everybody == everybody })
			if i < 0 {
				return term.Exit{Code: term.ExitNotFound,
					Err: fmt.Errorf("there is no such view %q; kembrel views %s lists them", args[1], p.Project)}
			}
			_, err = client.Call(cmd.Context(), a.Client(), api.DropView,
				&api.ViewIDInput{ProjectInput: in, ID: found.Items[i].ID})
			return err
		}}
	cmd.Flags().BoolVar(&everybody, "everybody", false, "the project's of this name, not one's own")
	return cmd
}

// Open makes the command open.
func (a *Commands) Open() *cobra.Command {
	return &cobra.Command{Use: "open ADDRESS...",
		Short:             "Print the console's link to a project, a run, a checkpoint, or a comparison",
		Long:              "Print the console's link to what an address names; several runs of a project: the link to their comparison.",
		Example:           "  kembrel open vessels/7\n  kembrel open vessels/3 vessels/7",
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("say what to open, such as vessels/7")
			}
			link := a.Settings.Get("url") + "/"
			first, err := api.ParseAddress(args[0])
			if err != nil {
				return term.Usage("%w", err)
			}
			link += first.Project
			for _, text := range args {
				if err := a.there(cmd.Context(), text); err != nil {
					return err
				}
			}
			if len(args) > 1 {
				_, numbers, err := term.SameProject(args, "")
				if err != nil {
					return err
				}
				fmt.Fprintln(a.Out, link+"/compare?runs="+term.JoinNumbers(numbers))
				return nil
			}
			if first.Run > 0 {
				link += fmt.Sprintf("/%d", first.Run)
			}
			if first.At.Kind != api.AtNone {
				link += "/checkpoints/" + first.At.String()
			}
			fmt.Fprintln(a.Out, link)
			return nil
		}}
}

// there fails where what an address names is not there.
func (a *Commands) there(ctx context.Context, text string) error {
	addr, err := api.ParseAddress(text)
	if err != nil {
		return term.Usage("%w", err)
	}
	run := term.RunOf(addr)
	switch {
	case addr.At.Kind != api.AtNone:
		_, err = client.Call(ctx, a.Client(), api.GetCheckpoint, &api.CheckpointInput{RunInput: run,
			At: addr.At.String()})
	case addr.Run > 0:
		_, err = client.Call(ctx, a.Client(), api.GetRun, &run)
	default:
		_, err = client.Call(ctx, a.Client(), api.GetProject, &run.ProjectInput)
	}
	return err
}
