package catalogue

import (
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Complete completes addresses in the catalogue from the service's own: models, then, where editions are wanted, their
// editions and standings.
func (a *Commands) Complete(wanted string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		if a.Settings.Load(cmd.Flags()) != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		name := strings.FieldsFunc(typed+" ", func(r rune) bool { return r == '#' || r == '/' || r == ' ' })
		if strings.ContainsAny(typed, "#/") && len(name) > 0 && wanted == "edition" {
			return a.CompleteEditions(cmd, name[0])
		}
		page, err := client.Call(cmd.Context(), a.Client(), api.ListModels, &api.PageInput{Limit: 200})
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var out []string
		directive := cobra.ShellCompDirectiveNoFileComp
		for _, m := range page.Items {
			if wanted == "edition" {
				directive |= cobra.ShellCompDirectiveNoSpace
			}
			out = append(out, cobra.CompletionWithDesc(m.Name, term.Printable(m.Title)))
		}
		return out, directive
	}
}
