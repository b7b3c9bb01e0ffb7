package evaluations

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Evaluations makes the command evaluations.
func (a *Commands) Evaluations() *cobra.Command {
	var output, data string
	cmd := &cobra.Command{Use: "evaluations RUN|CHECKPOINT",
		Short: "List what programs found of a run's checkpoints, latest first", Args: term.Arguments("RUN|CHECKPOINT"),
		Example: `  kembrel evaluations vessels/3
  kembrel evaluations vessels/3@best --data hydrophone#3:test`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, strings.Contains(args[0], "@"))
			if err != nil {
				return err
			}
			in := &api.EvaluationsInput{RunInput: term.RunOf(addr), PageInput: api.PageInput{Limit: 500}, Data: data}
			if addr.At != (api.At{}) {
				in.At = addr.At.String()
			}
			all, err := client.All(cmd.Context(), a.Client(), api.ListEvaluations, in,
				func(in *api.EvaluationsInput, cursor string) { in.Cursor = cursor })
			if err != nil {
				return err
			}
			l := listing(all)
			l.Empty = fmt.Sprintf("%s has no evaluation; kembrel evaluate makes one.", addr)
			return a.Print(output, l, map[string]any{"items": term.OrEmpty(all)})
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().StringVar(&data, "data", "", "only on this data, such as hydrophone#3:test")
	return cmd
}

func listing(all []api.Evaluation) term.Listing {
	l := term.List("number#", "checkpoint", "on", "found", "verified", "sheet#", "alarms", "who", "ended", "remark")
	l.Shorten = "found"
	for _, e := range all {
		on := e.Data
		if on == "" {
			on = e.Split
		}
		verified := ""
		if e.Verified != nil {
			verified = map[bool]string{true: "the same", false: "another"}[e.Verified.Same]
		}
		sheet, alarms := "", []string{}
		for _, s := range e.Sheets {
			sheet = strings.TrimSpace(sheet + " " + fmt.Sprint(s.Number))
			alarms = append(alarms, s.Alarms...)
		}
		l.Add(fmt.Sprint(e.Number), e.Checkpoint, on, found(e), verified, sheet, strings.Join(alarms, ", "), e.Who,
			term.When(e.Ended), strings.Join(e.Notes, " "))
	}
	return l
}

// shown are the figures from a sheet that are listed; kembrel predictions show has all.
var shown = []string{"accuracy", "log_loss", "mae", "rmse"}

// found are the figures of an evaluation in a line.
func found(e api.Evaluation) string {
	var parts []string
	for _, f := range e.Figures {
		if f.Computed && !slices.Contains(shown, f.Name) || f.Name == "log_loss" && len(parts) > 1 { // it is the loss
			continue
		}
		text := f.Name + "=" + term.Number(float64(f.Value))
		if f.Low != nil && f.High != nil {
			text += fmt.Sprintf(" (%.3g to %.3g)", *f.Low, *f.High)
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " ")
}
