package catalogue

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

func (a *Commands) rules() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "rules MODEL", Short: "List the rules by which runs enter a model, and what they did",
		Args: term.Arguments("MODEL"), Example: "  kembrel catalogue rules vessel-classifier",
		ValidArgsFunction: a.Complete("model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "model")
			if err != nil {
				return err
			}
			page, err := client.Call(cmd.Context(), a.Client(), api.ListRules, &api.ModelInput{Model: at.Model})
			if err != nil {
				return err
			}
			if output != "table" {
				l := term.List("rule#", "run", "ended", "fate", "what became of it")
				for _, r := range page.Items {
					for _, d := range r.Did {
						l.Add(strconv.Itoa(r.Number), d.Run, term.When(d.Ended), string(d.Fate), d.Says)
					}
				}
				return a.Print(output, l, page.Items)
			}
			if len(page.Items) == 0 {
				fmt.Fprintf(a.Out, "No run enters %s by itself; kembrel catalogue add-rule %[1]s has them do.\n", at.Model)
			}
			for i, r := range page.Items {
				if i > 0 {
					fmt.Fprintln(a.Out)
				}
				fmt.Fprintf(a.Out, "Rule %d, by %s since %s: %s\n", r.Number, r.Who, term.When(r.Created), r.Says)
				if r.Idle != "" {
					fmt.Fprintln(a.Out, r.Idle)
				}
				l := term.List("run", "ended", "what became of it")
				l.Empty = "No run that fulfils it has ended since."
				addRuns(&l, r.Did)
				if err := a.Print(output, l, nil); err != nil {
					return err
				}
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

func addRuns(l *term.Listing, runs []api.RuleRun) {
	for _, r := range runs {
		l.Add(r.Run, term.When(r.Ended), r.Says)
	}
}

func (a *Commands) addRule() *cobra.Command {
	var output string
	var try bool
	var margin float64
	in := &api.NewRule{}
	cmd := &cobra.Command{Use: "add-rule MODEL", Short: "Have runs enter a model by themselves",
		Args: term.Arguments("MODEL"),
		Long: `Have the runs of a model's project that end from now on enter it by themselves, in your name: those whose checkpoint has a better figure of the objective than the
edition in use, beyond the noise between seeds. That is told by other runs of the same hyperparameters: one more seed of the setting in use must not be likely to fall
there. Where nothing was run twice it cannot be told, and the run does not enter; --margin says instead by how much it must be better.

A run that fulfils the filter later, by an evaluation or a tag, is looked at then, up to a week after its end. With --try nothing is made, and it is shown what
the rule would have done with the latest 200 runs that there are.`,
		Example: `  kembrel catalogue add-rule vessel-classifier --where 'search == 3' --try
  kembrel catalogue add-rule vessel-classifier --where 'search == 3' --ask in-use
  kembrel catalogue add-rule vessel-classifier --margin 0.01 --checkpoint last`,
		ValidArgsFunction: a.Complete("model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "model")
			if err != nil {
				return err
			}
			in.Model = at.Model
			if cmd.Flags().Changed("margin") {
				in.Body.Margin = &margin
			}
			if !try {
				r, err := client.Call(cmd.Context(), a.Client(), api.AddRule, in)
				if err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "Rule %d of %s: %s\n", r.Number, at.Model, r.Says)
				return nil
			}
			past, err := client.Call(cmd.Context(), a.Client(), api.TryRule, in)
			if err != nil {
				return err
			}
			l := term.List("run", "ended", "what would have become of it")
			l.Empty = "No run that fulfils it has ended."
			addRuns(&l, past.Runs)
			if err := a.Print(output, l, past); err != nil || output != "table" {
				return err
			}
			fmt.Fprintln(a.Out, past.Says)
			return nil
		}}
	a.OutputFlag(cmd, &output)
	f := cmd.Flags()
	f.StringVar(&in.Body.Where, "where", "", "only runs that fulfil this (docs/filter.md)")
	f.StringVar(&in.Body.Checkpoint, "checkpoint", "best", "which checkpoint of a run: best or last")
	f.Float64Var(&margin, "margin", 0, "by how much its figure must be better, instead of beyond the noise between seeds")
	f.StringVar(&in.Body.Ask, "ask", "", "standing that the edition is asked for, such as in-use; who made the rule asks")
	f.BoolVar(&in.Body.Each, "each", false,
		"each that is better than the edition in use enters, also where another that entered since is better still")
	f.BoolVar(&try, "try", false, "make no rule, and show what it would have done")
	return cmd
}

func (a *Commands) clearRule() *cobra.Command {
	cmd := &cobra.Command{Use: "clear-rule MODEL RULE", Short: "Have no run enter a model by a rule any more",
		Args: term.Arguments("MODEL", "RULE"), Example: "  kembrel catalogue clear-rule vessel-classifier 1",
		ValidArgsFunction: a.Complete("model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "model")
			if err != nil {
				return err
			}
			number, err := strconv.ParseInt(args[1], 10, 32)
			if err != nil || number < 1 {
				return term.Usage("%q is no number of a rule; kembrel catalogue rules %s lists them", args[1], at.Model)
			}
			_, err = client.Call(cmd.Context(), a.Client(), api.ClearRule,
				&api.RuleOfModel{ModelInput: api.ModelInput{Model: at.Model}, Rule: int(number)})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "No run enters %s by rule %d any more.\n", at.Model, number)
			return nil
		}}
	return cmd
}
