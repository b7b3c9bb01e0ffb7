package record

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strconv"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Searches makes the command searches.
func (a *Commands) Searches() *cobra.Command {
	var output, shown string
	cmd := &cobra.Command{Use: "searches PROJECT [NUMBER]",
		Short:             "List the searches of a project, or the trials of one; archive or delete one",
		Example:           "  kembrel searches vessels\n  kembrel searches vessels 1\n  kembrel searches archive vessels 1",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return term.Usage("%s takes a project, and a search's number; see %s --help", cmd.CommandPath(),
					cmd.CommandPath())
			}
			if len(args) == 2 {
				of, err := searchOf(args)
				if err != nil {
					return err
				}
				return a.printSearch(cmd.Context(), output, of)
			}
			p, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			in := api.SearchesInput{ProjectInput: term.ProjectOf(p), PageInput: api.PageInput{Limit: 500}, Shown: shown}
			items, err := client.All(cmd.Context(), a.Client(), api.ListSearches, &in,
				func(in *api.SearchesInput, cursor string) { in.Cursor = cursor })
			if err != nil {
				return err
			}
			found := &api.Page[api.Search]{Items: items}
			l := term.List("search#", "title", "strategy", "trials#", "says", "who", "started")
			l.Shorten = "says"
			l.Empty = "No search yet. Begin one: kembrel search random --project " + p.Project +
				" --space space.yaml -- COMMAND"
			for _, s := range found.Items {
				l.Add(fmt.Sprint(s.Number), s.Title, s.Strategy, fmt.Sprint(s.Count), s.Says, s.Who,
					term.When(s.Started))
			}
			return a.Print(output, l, found)
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().StringVar(&shown, "shown", "active", "active, archived or all")
	cmd.AddCommand(a.searchArchive(), a.searchDelete())
	return cmd
}

// searchOf reads a project and the number of a search.
func searchOf(args []string) (api.SearchInput, error) {
	p, err := term.Address(args[0], false, false)
	if err != nil {
		return api.SearchInput{}, err
	}
	n, err := strconv.Atoi(args[1])
	if err != nil || n < 1 {
		return api.SearchInput{}, term.Usage("%q is no number of a search", args[1])
	}
	return api.SearchInput{ProjectInput: term.ProjectOf(p), Number: n}, nil
}

func (a *Commands) searchArchive() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{Use: "archive PROJECT NUMBER", Short: "Take a search out of the list, or put it back",
		Args:    term.Arguments("PROJECT", "NUMBER"),
		Example: "  kembrel searches archive vessels 1\n  kembrel searches archive vessels 1 --undo",
		RunE: func(cmd *cobra.Command, args []string) error {
			of, err := searchOf(args)
			if err != nil {
				return err
			}
			in := &api.SearchArchiveInput{SearchInput: of}
			in.Body.Archived = !undo
			if _, err := client.Call(cmd.Context(), a.Client(), api.ArchiveSearch, in); err != nil {
				return err
			}
			if undo {
				fmt.Fprintf(a.Out, "search %d of %s is in the list again\n", of.Number, of.Project)
				return nil
			}
			fmt.Fprintf(a.Out, "search %d of %s is archived; its runs are not. kembrel searches %s --shown archived lists it\n", of.Number, of.Project, of.Project)
			return nil
		}}
	cmd.Flags().BoolVar(&undo, "undo", false, "put it back")
	return cmd
}

func (a *Commands) searchDelete() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "delete PROJECT NUMBER", Short: "Delete a search; its runs stay",
		Args:    term.Arguments("PROJECT", "NUMBER"),
		Example: "  kembrel searches delete vessels 1",
		RunE: func(cmd *cobra.Command, args []string) error {
			of, err := searchOf(args)
			if err != nil {
				return err
			}
			found, err := client.Call(cmd.Context(), a.Client(), api.GetSearch, &of)
			if err != nil {
				return err
			}
			if !yes {
				ok, err := a.Confirm(fmt.Sprintf("Delete search %d of %s (%s)? Its space and settings go; its runs stay as runs of their own.", of.Number, of.Project, found.Says))
				if err != nil || !ok {
					return err
				}
			}
			if _, err := client.Call(cmd.Context(), a.Client(), api.DeleteSearch, &of); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "search %d of %s is deleted; its runs stay\n", of.Number, of.Project)
			return nil
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *Commands) printSearch(ctx context.Context, output string, in api.SearchInput) error {
	found, err := client.Call(ctx, a.Client(), api.GetSearch, &in)
	if err != nil {
		return err
	}
	l := term.List("trial#", "run", "state", "best#", "took#", "setting")
	l.Shorten, l.Spare = "setting", []string{"took"}
	trials := slices.Clone(found.Trials)
	sort.SliceStable(trials, func(i, j int) bool { return trials[i].Run > 0 && trials[j].Run == 0 })
	for _, t := range trials {
		run, best, length := "", "", ""
		if t.Run > 0 {
			run = fmt.Sprintf("%s/%d", in.Project, t.Run)
		}
		if t.Best != nil {
			best = term.Number(float64(*t.Best))
		}
		if t.Started != nil {
			length = term.Seconds(t.Took)
		}
		l.Add(fmt.Sprint(t.Number), run, t.State, best, length, settingOf(found, t).String())
	}
	if err := a.Print(output, l, found); err != nil || output != "table" {
		return err
	}
	fmt.Fprintln(a.Out, found.Says)
	return nil
}
