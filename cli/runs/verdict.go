package runs

import (
	"fmt"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Verdict makes the command verdict.
func (a *Commands) Verdict() *cobra.Command {
	var output, dispute string
	var undo bool
	cmd := &cobra.Command{Use: "verdict RUN", Short: "Say what a run's curves say, with the numbers; or disagree",
		Args: term.Arguments("RUN"),
		Long: `Say what a run's curves say: improving, converged, underfitting, overfitting, diverged, too noisy or too short to tell, with the numbers that led to it
(docs/verdicts.md). A person may dispute the verdict with a reason, which is kept and shown with it.`,
		Example:           "  kembrel verdict vessels/3\n  kembrel verdict vessels/3 --dispute \"validation rose because the sea state changed\"\n  kembrel verdict vessels/3 --undo",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			var v *api.Verdict
			run := term.RunOf(addr)
			switch {
			case dispute != "" && undo:
				return term.Usage("--dispute and --undo exclude each other")
			case dispute != "":
				in := &api.DisputeInput{RunInput: run}
				in.Body.Reason = dispute
				v, err = client.Call(cmd.Context(), a.Client(), api.DisputeVerdict, in)
			case undo:
				v, err = client.Call(cmd.Context(), a.Client(), api.UndisputeVerdict, &run)
			default:
				var r *api.RunDetail
				if r, err = client.Call(cmd.Context(), a.Client(), api.GetRun, &run); err == nil {
					v = r.Verdict
				}
			}
			if err != nil {
				return err
			}
			return a.Print(output, verdictTable(v), v)
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().StringVar(&dispute, "dispute", "", "disagree, and why")
	cmd.Flags().BoolVar(&undo, "undo", false, "let the verdict stand again")
	return cmd
}

func verdictTable(v *api.Verdict) term.Listing {
	l := term.List("", "value")
	l.Add("verdict", term.OrText(v.Kind, "none yet"))
	l.Add("in words", v.Said)
	if v.Dispute != nil {
		l.Add("disputed", fmt.Sprintf("%s (%s, %s; it was %q)", v.Dispute.Reason, v.Dispute.Who,
			term.When(v.Dispute.At), v.Dispute.Kind))
	}
	l.Add("since", term.OrText(term.Epoch(v.Since), "-")+" ("+v.By+")")
	for _, n := range []struct {
		what string
		v    api.Float
	}{{"training changed since, share", v.Train}, {"objective changed since, share", v.Val},
		{"gap, validation minus training", v.Gap},
		{"noise of the objective", v.Noise}, {"learnt of the first error, share", v.Learnt},
		{"slope lately, per " + v.By, v.Slope}, {"seconds per epoch", v.Pace}} {
		l.Add(n.what, term.Number(float64(n.v)))
	}
	l.Add("places judged", fmt.Sprint(v.Places))
	return l
}
