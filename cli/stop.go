package cli

import (
	"fmt"
	"math"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/client"
)

// ruleFlags are the flags that make a stop rule.
type ruleFlags struct {
	prefix string
	value  api.StopRule
}

func (r *ruleFlags) add(f *pflag.FlagSet, prefix string) {
	r.prefix = prefix
	f.StringVar(&r.value.Objective, prefix+"objective", "", "the curve that is watched, and its direction; else the run's objective")
	f.Float64Var(&r.value.Patience, prefix+"patience", 0, "stop after so many epochs without improvement")
	f.Float64Var(&r.value.Margin, prefix+"margin", 0, "the least change that counts as improvement")
	f.BoolVar(&r.value.Relative, prefix+"relative", false, "the margin is a share of the best value, such as 0.01")
	f.Float64Var(&r.value.Earliest, prefix+"earliest", 0, "never stop before this epoch")
	f.BoolVar(&r.value.Diverged, prefix+"diverged", false, "also stop at once when the objective is not a number")
}

// rule is the rule that was given, nil for none.
func (r *ruleFlags) rule(cmd *cobra.Command) (*api.StopRule, error) {
	return givenRule(cmd, &r.value, r.prefix, "objective", "patience", "margin", "relative", "earliest", "diverged")
}

func (a *App) stopRule() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "stop-rule ADDRESS", Short: "Show, set or try the rule that ends runs early", Args: arguments("ADDRESS"),
		Long: `A stop rule ends a run whose objective has not improved for a number of epochs. A project's rule holds for its runs, unless a run has its own.
The program is advised to stop; under kembrel record --enforce-stop it is ended. The run ends as stopped, with the rule and the best epoch.`,
		Example:           "  kembrel stop-rule vessels\n  kembrel stop-rule set vessels --patience 5 --margin 0.001\n  kembrel stop-rule set vessels/7 --none\n  kembrel stop-rule try --patience 5 --margin 0.001 vessels/2 vessels/3",
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.printRule(args[0], output, func(in api.ProjectInput) (*api.StopState, error) {
				return client.Call(cmd.Context(), a.client(), api.GetStopRule, &in)
			}, func(in api.RunInput) (*api.StopState, error) {
				run, err := client.Call(cmd.Context(), a.client(), api.GetRun, &in)
				if err != nil {
					return nil, err
				}
				return &run.Stop, nil
			})
		}}
	outputFlag(cmd, &output)
	cmd.AddCommand(a.stopRuleSet(), a.stopRuleDrop(), a.stopRuleTry())
	return cmd
}

// printRule does to a project or to a run what is to be done to its stop rule, and prints what it is then.
func (a *App) printRule(text, output string, ofProject func(api.ProjectInput) (*api.StopState, error), ofRun func(api.RunInput) (*api.StopState, error)) error {
	state, err := toProjectOrRun(text, "stop rule", ofProject, ofRun)
	if err != nil {
		return err
	}
	return a.print(output, stopTable(state), state)
}

func stopTable(s *api.StopState) listing {
	l := list("", "value")
	l.add("stop rule", s.Said)
	if s.From != "none" {
		l.add("of the", s.From)
	}
	if !math.IsNaN(float64(s.Left)) && s.Stopped == nil {
		l.add("patience left", epochsText(s.Left))
	}
	if s.Stopped != nil {
		l.add("said stop", s.Stopped.Why)
		if s.Stopped.Checkpoint != "" {
			l.add("best checkpoint", s.Stopped.Checkpoint)
		}
	}
	return l
}

func (a *App) stopRuleSet() *cobra.Command {
	var rule ruleFlags
	var none bool
	cmd := &cobra.Command{Use: "set ADDRESS", Short: "Set the stop rule of a project, or of a run, also while it runs", Args: arguments("ADDRESS"),
		Example:           "  kembrel stop-rule set vessels --patience 5 --margin 0.001 --diverged\n  kembrel stop-rule set vessels/7 --none",
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			given, err := rule.rule(cmd)
			switch {
			case err != nil:
				return err
			case none && given != nil:
				return usage("--none goes with no other flag")
			case !none && given == nil:
				return usage("say the rule, such as --patience 5")
			}
			return a.printRule(args[0], "table", func(in api.ProjectInput) (*api.StopState, error) {
				if none {
					return nil, usage("--none is for a run whose project has a rule; kembrel stop-rule clear takes a project's away")
				}
				return client.Call(cmd.Context(), a.client(), api.SetStopRule, &api.RuleInput{ProjectInput: in, Body: *given})
			}, func(in api.RunInput) (*api.StopState, error) {
				set := &api.RunRuleInput{RunInput: in}
				set.Body.None, set.Body.Rule = none, given
				return client.Call(cmd.Context(), a.client(), api.SetRunRule, set)
			})
		}}
	rule.add(cmd.Flags(), "")
	cmd.Flags().BoolVar(&none, "none", false, "no rule stops this run, whatever its project's is")
	return cmd
}

func (a *App) stopRuleDrop() *cobra.Command {
	return &cobra.Command{Use: "clear ADDRESS", Short: "Take the stop rule away: of a project, or of a run, which then follows its project's", Args: arguments("ADDRESS"),
		Example: "  kembrel stop-rule clear vessels/7", ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.printRule(args[0], "table", func(in api.ProjectInput) (*api.StopState, error) {
				return client.Call(cmd.Context(), a.client(), api.DropStopRule, &in)
			}, func(in api.RunInput) (*api.StopState, error) {
				return client.Call(cmd.Context(), a.client(), api.DropRunRule, &in)
			})
		}}
}

func (a *App) stopRuleTry() *cobra.Command {
	var rule ruleFlags
	var output string
	cmd := &cobra.Command{Use: "try RUN...", Short: "Show where a rule would have stopped past runs, what it would have saved and lost",
		Example:           "  kembrel stop-rule try --patience 5 --margin 0.001 vessels/2 vessels/3",
		ValidArgsFunction: a.complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("say which runs: kembrel stop-rule try --patience 5 vessels/2 vessels/3")
			}
			given, err := rule.rule(cmd)
			if err != nil {
				return err
			}
			if given == nil {
				return usage("say the rule, such as --patience 5")
			}
			in := &api.TryInput{}
			in.Body.Rule = *given
			for _, text := range args {
				addr, err := address(text, true, false)
				if err != nil {
					return err
				}
				if in.Project != "" && in.Project != addr.Project {
					return usage("%s and %s are in different projects; try one project at a time", args[0], text)
				}
				in.Project = addr.Project
				in.Body.Runs = append(in.Body.Runs, addr.Run)
			}
			tried, err := client.Call(cmd.Context(), a.client(), api.TryStopRule, in)
			if err != nil {
				return err
			}
			l := list("run", "stops", "best until then#", "at", "best of all#", "at", "saves epochs#", "saves time#", "loses#")
			for _, r := range tried.Runs {
				l.add(r.Address, orText(at(r.Stop), "no"), figure(r.Best), at(r.Best), figure(r.Later), at(r.Later), epoch(r.SavedEpochs), seconds(float64(r.SavedTime)), number(float64(r.Lost)))
			}
			if output == "table" {
				fmt.Fprintf(a.Out, "%s\n\n", tried.Said)
			}
			return a.print(output, l, tried)
		}}
	outputFlag(cmd, &output)
	rule.add(cmd.Flags(), "")
	return cmd
}

func orText(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
