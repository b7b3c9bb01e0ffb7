package runs

import (
	"fmt"
	"math"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// StopRule makes the command stop-rule.
func (a *Commands) StopRule() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "stop-rule ADDRESS", Short: "Show, set or try the rule that ends runs early",
		Args: term.Arguments("ADDRESS"),
		Long: `A stop rule ends a run whose objective has not improved for a number of epochs. A project's rule holds for its runs, unless a run has its own.
The program is advised to stop; under kembrel record --enforce-stop it is ended. The run ends as stopped,
	with the rule and the best epoch.`,
		Example:           "  kembrel stop-rule vessels\n  kembrel stop-rule set vessels --patience 5 --margin 0.001\n  kembrel stop-rule set vessels/7 --none\n  kembrel stop-rule try --patience 5 --margin 0.001 vessels/2 vessels/3",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.printRule(args[0], output, func(in api.ProjectInput) (*api.StopState, error) {
				return client.Call(cmd.Context(), a.Client(), api.GetStopRule, &in)
			}, func(in api.RunInput) (*api.StopState, error) {
				run, err := client.Call(cmd.Context(), a.Client(), api.GetRun, &in)
				if err != nil {
					return nil, err
				}
				return &run.Stop, nil
			})
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.stopRuleSet(), a.stopRuleDrop(), a.stopRuleTry())
	return cmd
}

// printRule does to a project or to a run what is to be done to its stop rule, and prints what it is then.
func (a *Commands) printRule(text, output string, ofProject func(api.ProjectInput) (*api.StopState, error),
	ofRun func(api.RunInput) (*api.StopState, error)) error {
	state, err := term.ToProjectOrRun(text, "stop rule", ofProject, ofRun)
	if err != nil {
		return err
	}
	return a.Print(output, stopTable(state), state)
}

func stopTable(s *api.StopState) term.Listing {
	l := term.List("", "value")
	l.Add("stop rule", s.Said)
	if s.From != "none" {
		l.Add("of the", s.From)
	}
	if !math.IsNaN(float64(s.Left)) && s.Stopped == nil {
		l.Add("patience left", term.EpochsText(s.Left))
	}
	if s.Stopped != nil {
		l.Add("said stop", s.Stopped.Why)
		if s.Stopped.Checkpoint != "" {
			l.Add("best checkpoint", s.Stopped.Checkpoint)
		}
	}
	return l
}

func (a *Commands) stopRuleSet() *cobra.Command {
	var rule term.RuleFlags
	var none bool
	cmd := &cobra.Command{Use: "set ADDRESS", Short: "Set the stop rule of a project, or of a run, also while it runs",
		Args:              term.Arguments("ADDRESS"),
		Example:           "  kembrel stop-rule set vessels --patience 5 --margin 0.001 --diverged\n  kembrel stop-rule set vessels/7 --none",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			given, err := rule.Rule(cmd)
			switch {
			case err != nil:
				return err
			case none && given != nil:
				return term.Usage("--none goes with no other flag")
			case !none && given == nil:
				return term.Usage("say the rule, such as --patience 5")
			}
			return a.printRule(args[0], "table", func(in api.ProjectInput) (*api.StopState, error) {
				if none {
					return nil,
						term.Usage("--none is for a run whose project has a rule; kembrel stop-rule clear takes a project's away")
				}
				return client.Call(cmd.Context(), a.Client(), api.SetStopRule,
					&api.RuleInput{ProjectInput: in, Body: *given})
			}, func(in api.RunInput) (*api.StopState, error) {
				set := &api.RunRuleInput{RunInput: in}
				set.Body.None, set.Body.Rule = none, given
				return client.Call(cmd.Context(), a.Client(), api.SetRunRule, set)
			})
		}}
	rule.Add(cmd.Flags(), "")
	cmd.Flags().BoolVar(&none, "none", false, "no rule stops this run, whatever its project's is")
	return cmd
}

func (a *Commands) stopRuleDrop() *cobra.Command {
	return &cobra.Command{Use: "clear ADDRESS",
		Short:   "Take the stop rule away: of a project, or of a run, which then follows its project's",
		Args:    term.Arguments("ADDRESS"),
		Example: "  kembrel stop-rule clear vessels/7", ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.printRule(args[0], "table", func(in api.ProjectInput) (*api.StopState, error) {
				return client.Call(cmd.Context(), a.Client(), api.DropStopRule, &in)
			}, func(in api.RunInput) (*api.StopState, error) {
				return client.Call(cmd.Context(), a.Client(), api.DropRunRule, &in)
			})
		}}
}

func (a *Commands) stopRuleTry() *cobra.Command {
	var rule term.RuleFlags
	var output string
	cmd := &cobra.Command{Use: "try RUN...",
		Short:             "Show where a rule would have stopped past runs, what it would have saved and lost",
		Example:           "  kembrel stop-rule try --patience 5 --margin 0.001 vessels/2 vessels/3",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("say which runs: kembrel stop-rule try --patience 5 vessels/2 vessels/3")
			}
			given, err := rule.Rule(cmd)
			if err != nil {
				return err
			}
			if given == nil {
				return term.Usage("say the rule, such as --patience 5")
			}
			in := &api.TryInput{}
			in.Body.Rule = *given
			for _, text := range args {
				addr, err := term.Address(text, true, false)
				if err != nil {
					return err
				}
				if in.Project != "" && in.Project != addr.Project {
					return term.Usage("%s and %s are in different projects; try one project at a time", args[0], text)
				}
				in.Project = addr.Project
				in.Body.Runs = append(in.Body.Runs, addr.Run)
			}
			tried, err := client.Call(cmd.Context(), a.Client(), api.TryStopRule, in)
			if err != nil {
				return err
			}
			l := term.List("run", "stops", "best until then#", "at", "best of all#", "at", "saves epochs#",
				"saves time#", "loses#")
			for _, r := range tried.Runs {
				l.Add(r.Address, term.OrText(term.At(r.Stop), "no"), term.Figure(r.Best), term.At(r.Best),
					term.Figure(r.Later), term.At(r.Later), term.Epoch(r.SavedEpochs),
					term.Seconds(float64(r.SavedTime)), term.Number(float64(r.Lost)))
			}
			if output == "table" {
				fmt.Fprintf(a.Out, "%s\n\n", tried.Said)
			}
			return a.Print(output, l, tried)
		}}
	a.OutputFlag(cmd, &output)
	rule.Add(cmd.Flags(), "")
	return cmd
}
