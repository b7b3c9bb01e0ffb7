package catalogue

import (
	"fmt"
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
			m, err := client.Call(cmd.Context(), a.Client(), api.GetModel, &api.ModelInput{Model: name[0]})
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			var out []string
			for _, st := range m.Standings {
				out = append(out, cobra.CompletionWithDesc(st.Address, fmt.Sprintf("#%d", st.Edition)))
			}
			for _, e := range m.Latest {
				out = append(out, cobra.CompletionWithDesc(e.Address, term.Printable(e.Origin)))
			}
			return out, cobra.ShellCompDirectiveNoFileComp
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
