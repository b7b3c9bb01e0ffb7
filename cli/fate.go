package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
)

func (a *App) archive() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{Use: "archive RUN...", Short: "Put runs out of the way, or bring them back",
		Long:              "Put runs out of the way: lists leave them out unless asked (kembrel runs --shown archived), all else stays as it is. --undo brings them back.",
		Example:           "  kembrel archive vessels/4 vessels/5\n  kembrel archive --undo vessels/4",
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.eachRun(args, func(in api.RunInput) (string, error) {
				r, err := client.Call(cmd.Context(), a.client(), api.ArchiveRun, &api.ArchiveInput{RunInput: in, Body: struct {
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

func (a *App) deleteRun() *cobra.Command {
	var undo bool
	days := 7.0
	cmd := &cobra.Command{Use: "delete RUN...", Short: "Delete runs after a grace period, or call that off",
		Long: `Delete runs: at once they are out of every list, and after a grace period of some days they are gone with their curves and checkpoints. Until then --undo
brings them back, and kembrel runs --shown deleted lists them. A run is deleted by whoever made it, or by an administrator.`,
		Example:           "  kembrel delete vessels/4\n  kembrel delete --undo vessels/4\n  kembrel delete --days 0 vessels/4",
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if days < 0 || days > 365 {
				return usage("--days %g: from 0 to 365", days)
			}
			return a.eachRun(args, func(in api.RunInput) (string, error) {
				if undo {
					_, err := client.Call(cmd.Context(), a.client(), api.KeepRun, &in)
					return "stays", err
				}
				// The client leaves zero values out, and the service's default would take their place.
				r, err := client.Call(cmd.Context(), a.client(), api.DeleteRun, &api.LeaveInput{RunInput: in, Days: max(days, 1e-9)})
				if err != nil {
					return "", err
				}
				return "will be gone " + when(*r.Leaves), nil
			})
		}}
	cmd.Flags().Float64Var(&days, "days", days, "until they are gone")
	cmd.Flags().BoolVar(&undo, "undo", false, "bring them back")
	return cmd
}

// eachRun does something with every run that is named and says what came of it.
func (a *App) eachRun(args []string, do func(in api.RunInput) (string, error)) error {
	if len(args) == 0 {
		return usage("say which runs, such as vessels/4")
	}
	var runs []api.Address
	for _, text := range args {
		addr, err := address(text, true, false)
		if err != nil {
			return err
		}
		runs = append(runs, addr)
	}
	for _, r := range runs {
		said, err := do(runOf(r))
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s %s\n", r, said)
	}
	return nil
}

func (a *App) views() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "views PROJECT", Short: "List the kept views of a project's runs", Args: arguments("PROJECT"),
		Long:              "List the kept views of a project's runs: one's own and the project's. Views are made in the console; kembrel runs --view NAME lists runs by one.",
		Example:           "  kembrel views vessels\n  kembrel runs vessels --view \"by objective\"",
		ValidArgsFunction: a.complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := address(args[0], false, false)
			if err != nil {
				return err
			}
			in := projectOf(p)
			found, err := client.Call(cmd.Context(), a.client(), api.ListViews, &in)
			if err != nil {
				return err
			}
			l := list("view", "of", "changed", "look")
			l.shorten, l.empty = 3, "No view is kept. The console keeps them: above the table of runs."
			for _, v := range found.Items {
				of := "you"
				if v.Everybody {
					of = "everybody"
				}
				l.add(v.Name, of, when(v.Changed), v.Look)
			}
			return a.print(output, l, found)
		}}
	outputFlag(cmd, &output)
	return cmd
}

// view fills in what a kept view says, where the command does not say otherwise.
func (a *App) view(cmd *cobra.Command, in *api.RunsInput, name string, columns *string) error {
	found, err := client.Call(cmd.Context(), a.client(), api.ListViews, &in.ProjectInput)
	if err != nil {
		return err
	}
	for _, v := range found.Items {
		if v.Name != name {
			continue
		}
		look, err := url.ParseQuery(v.Look)
		if err != nil {
			return err
		}
		for flag, to := range map[string]*string{"where": &in.Where, "sort": &in.Sort, "order": &in.Order, "shown": &in.Shown, "columns": columns} {
			if !cmd.Flags().Changed(flag) {
				*to = look.Get(flag)
			}
		}
		return nil
	}
	return exit{ExitNotFound, fmt.Errorf("there is no view %q in %s; kembrel views %s lists them", name, in.Project, in.Project)}
}

func (a *App) open() *cobra.Command {
	return &cobra.Command{Use: "open ADDRESS...", Short: "Print the console's link to a project, a run, a checkpoint, or a comparison",
		Long:              "Print the console's link to what an address names; several runs of a project: the link to their comparison.",
		Example:           "  kembrel open vessels/7\n  kembrel open vessels/3 vessels/7",
		ValidArgsFunction: a.complete(true, true),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("say what to open, such as vessels/7")
			}
			link := a.Settings.Get("url") + "/"
			first, err := api.ParseAddress(args[0])
			if err != nil {
				return usage("%w", err)
			}
			link += first.Project
			if len(args) > 1 {
				_, numbers, err := sameProject(args, "")
				if err != nil {
					return err
				}
				fmt.Fprintln(a.Out, link+"/compare?runs="+joinNumbers(numbers))
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
