package term

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
)

type completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// Complete completes addresses from the service's own data: projects, then runs, then checkpoints, as far as wanted.
func (a *App) Complete(runs, checkpoints bool) completion {
	return func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if a.Settings.Load(cmd.Flags()) != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		c, ctx := a.Client(), cmd.Context()
		if model, _, is := strings.Cut(typed, "#"); is && checkpoints {
			return a.CompleteEditions(cmd, model)
		}
		project, rest, inProject := strings.Cut(typed, "/")
		if !inProject {
			page, err := client.Call(ctx, c, api.ListProjects, &api.ProjectsInput{PageInput: api.PageInput{Limit: 200}})
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			var out []string
			directive := cobra.ShellCompDirectiveNoFileComp
			for _, p := range page.Items {
				item := p.Key
				if runs {
					item += "/"
					directive |= cobra.ShellCompDirectiveNoSpace
				}
				out = append(out, cobra.CompletionWithDesc(item, Printable(p.Title)))
			}
			models, err := client.Call(ctx, c, api.ListModels, &api.PageInput{Limit: 200})
			if err == nil && checkpoints {
				for _, m := range models.Items {
					out = append(out, cobra.CompletionWithDesc(m.Name+"#", Printable(m.Title)))
				}
			}
			return out, directive
		}
		if !runs {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		if head, _, inRun := strings.Cut(typed, "@"); inRun && checkpoints {
			addr, err := api.ParseAddress(head)
			if err != nil || addr.Run == 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			in := RunOf(addr)
			page, err := client.Call(ctx, c, api.ListCheckpoints, &in)
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			out := []string{head + "@best", head + "@last"}
			for _, k := range page.Items {
				out = append(out, cobra.CompletionWithDesc(k.Address, Printable(k.Why)))
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		}
		page, err := client.Call(ctx, c, api.ListRuns, &api.RunsInput{ProjectInput: api.ProjectInput{Project: project},
			PageInput: api.PageInput{Limit: 500}})
		if api.Is(err, api.NotFound) && checkpoints {
			return a.CompleteEditions(cmd, project) // a standing of it is meant
		}
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var out []string
		for _, r := range page.Items {
			if strings.HasPrefix(r.Address, project+"/"+rest) {
				out = append(out, cobra.CompletionWithDesc(r.Address, Printable(r.State+" "+r.Title)))
			}
		}
		directive := cobra.ShellCompDirectiveNoFileComp
		if checkpoints {
			directive |= cobra.ShellCompDirectiveNoSpace
		}
		return out, directive
	}
}

// CompleteEditions completes the editions and standings of a model.
func (a *App) CompleteEditions(cmd *cobra.Command, model string) ([]string, cobra.ShellCompDirective) {
	m, err := client.Call(cmd.Context(), a.Client(), api.GetModel, &api.ModelInput{Model: model})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, st := range m.Standings {
		out = append(out, cobra.CompletionWithDesc(st.Address, fmt.Sprintf("#%d", st.Edition)))
	}
	for _, e := range m.Latest {
		out = append(out, cobra.CompletionWithDesc(e.Address, Printable(e.Origin)))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// CompleteFilter completes a filter from the data of the project that is the first argument.
func (a *App) CompleteFilter(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	directive := cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	if len(args) == 0 || a.Settings.Load(cmd.Flags()) != nil {
		return nil, directive
	}
	found, err := client.Call(cmd.Context(), a.Client(), api.CompleteFilter,
		&api.CompletionInput{ProjectInput: api.ProjectInput{Project: args[0]}, Text: typed})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, s := range found.Items {
		// a shell would take it for more than text
		if !strings.ContainsAny(s.Text, "$`;\\\n") && Printable(s.Text) == s.Text {
			out = append(out, s.Text)
		}
	}
	return out, directive
}

// listed offers words for the last of a list with commas; those in it already are left out.
func listed(typed string, words []string) []string {
	head, last := "", typed
	if i := strings.LastIndexByte(typed, ','); i >= 0 {
		head, last = typed[:i+1], typed[i+1:]
	}
	given := strings.Split(head, ",")
	var out []string
	for _, w := range words {
		if strings.HasPrefix(w, last) && !slices.Contains(given, w) && Printable(w) == w &&
			!strings.ContainsAny(w, ", $`;\\\n") {
			out = append(out, head+w)
		}
	}
	return out
}

// CompleteCurves completes a list of curves from the data of the project that the first argument is in.
func (a *App) CompleteCurves(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	directive := cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	if len(args) == 0 || a.Settings.Load(cmd.Flags()) != nil {
		return nil, directive
	}
	project, _, _ := strings.Cut(args[0], "/")
	words, err := client.Call(cmd.Context(), a.Client(), api.GetWords, &api.ProjectInput{Project: project})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return listed(typed, words.Curves), directive
}

// CompleteParts completes a list of parts from the checkpoint that is the first argument.
func (a *App) CompleteParts(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	directive := cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	if len(args) == 0 || a.Settings.Load(cmd.Flags()) != nil {
		return nil, directive
	}
	addr, err := a.Checkpoint(cmd.Context(), args[0])
	if err != nil {
		return nil, directive
	}
	c, err := client.Call(cmd.Context(), a.Client(), api.GetCheckpoint,
		&api.CheckpointInput{RunInput: RunOf(addr), At: addr.At.String()})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var parts []string
	for _, f := range c.Files {
		if !slices.Contains(parts, f.Part) {
			parts = append(parts, f.Part)
		}
	}
	return listed(typed, parts), directive
}
