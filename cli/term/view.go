package term

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
)

// View fills in what a kept view says, where the command does not say otherwise.
func (a *App) View(cmd *cobra.Command, in *api.RunsInput, name string, columns *string) error {
	found, err := client.Call(cmd.Context(), a.Client(), api.ListViews, &in.ProjectInput)
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
		for flag, to := range map[string]*string{"where": &in.Where, "sort": &in.Sort, "order": &in.Order,
			"shown": &in.Shown, "columns": columns} {
			if !cmd.Flags().Changed(flag) {
				*to = look.Get(flag)
			}
		}
		return nil
	}
	return Exit{ExitNotFound, fmt.Errorf("there is no view %q in %s; kembrel views %s lists them", name,
		in.Project, in.Project)}
}
