package term

import (
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/core/verdict"
)

// GivenRule is the rule that flags made, nil where none of them was given.
func GivenRule[R interface{ Check() error }](cmd *cobra.Command, rule *R, prefix string, names ...string) (*R, error) {
	given := false
	for _, name := range names {
		given = given || cmd.Flags().Changed(prefix+name)
	}
	if !given {
		return nil, nil
	}
	if err := (*rule).Check(); err != nil {
		return nil, Usage("%w", err)
	}
	return rule, nil
}

// ToProjectOrRun does to a project or to a run, whichever an address names, what is to be done to its rule, which what
// names.
func ToProjectOrRun[S any](text, what string, toProject func(api.ProjectInput) (S, error),
	toRun func(api.RunInput) (S, error)) (S, error) {
	addr, err := api.ParseAddress(text)
	var none S
	switch {
	case err != nil:
		return none, Usage("%w", err)
	case addr.At.Kind != api.AtNone:
		return none, Usage("%s is a checkpoint; a project or a run has a %s", text, what)
	case addr.Run == 0:
		return toProject(ProjectOf(addr))
	}
	return toRun(RunOf(addr))
}

// Objective is the value of a flag: a curve and its direction, such as "loss.val lower".
type Objective api.Objective

// String is the objective as it is written.
func (o *Objective) String() string { return api.Objective(*o).String() }

// Set reads it.
func (o *Objective) Set(text string) error {
	said, err := verdict.ParseObjective(text)
	*o = Objective(said)
	return err
}

// Type is how the help names the value.
func (o *Objective) Type() string { return "\"CURVE DIRECTION\"" }

// RuleFlags are the flags that make a stop rule.
type RuleFlags struct {
	prefix string
	value  api.StopRule
}

// Add adds the flags of a stop rule, with a prefix to their names.
func (r *RuleFlags) Add(f *pflag.FlagSet, prefix string) {
	r.prefix = prefix
	f.Var((*Objective)(&r.value.Objective), prefix+"objective",
		"the curve that is watched, and its direction; else the run's objective")
	f.Float64Var(&r.value.Patience, prefix+"patience", 0, "stop after so many epochs without improvement")
	f.Float64Var(&r.value.Margin, prefix+"margin", 0, "the smallest change that counts as improvement")
	f.BoolVar(&r.value.Relative, prefix+"relative", false, "the margin is a share of the best value, such as 0.01")
	f.Float64Var(&r.value.Earliest, prefix+"earliest", 0, "never stop before this epoch")
	f.BoolVar(&r.value.Diverged, prefix+"diverged", false, "also stop at once when the objective is not a number")
}

// Rule is the rule that was given, nil for none.
func (r *RuleFlags) Rule(cmd *cobra.Command) (*api.StopRule, error) {
	return GivenRule(cmd, &r.value, r.prefix, "objective", "patience", "margin", "relative", "earliest", "diverged")
}
