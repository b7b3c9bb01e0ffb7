package cli

import (
	"github.com/spf13/cobra"

	"kembrel/api"
)

// givenRule is the rule that flags made, nil where none of them was given.
func givenRule[R interface{ Check() error }](cmd *cobra.Command, rule *R, prefix string, names ...string) (*R, error) {
	given := false
	for _, name := range names {
		given = given || cmd.Flags().Changed(prefix+name)
	}
	if !given {
		return nil, nil
	}
	if err := (*rule).Check(); err != nil {
		return nil, usage("%w", err)
	}
	return rule, nil
}

// toProjectOrRun does to a project or to a run, whichever an address names, what is to be done to its rule, which what names.
func toProjectOrRun[S any](text, what string, toProject func(api.ProjectInput) (S, error), toRun func(api.RunInput) (S, error)) (S, error) {
	addr, err := api.ParseAddress(text)
	var none S
	switch {
	case err != nil:
		return none, usage("%w", err)
	case addr.At.Kind != api.AtNone:
		return none, usage("%s is a checkpoint; a project or a run has a %s", text, what)
	case addr.Run == 0:
		return toProject(projectOf(addr))
	}
	return toRun(runOf(addr))
}
