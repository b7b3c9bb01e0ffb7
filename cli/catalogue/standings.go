package catalogue

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// standing is the standing that is meant, and who has it: that named, or in-use, or the only one.
func (a *Commands) standing(ctx context.Context, model, name string) (*api.Model, *api.Standing, error) {
	m, err := client.Call(ctx, a.Client(), api.GetModel, &api.ModelInput{Model: model})
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for i, st := range m.Standings {
		if st.Name == name || name == "" && (st.Name == "in-use" || len(m.Standings) == 1) {
			return m, &m.Standings[i], nil
		}
		names = append(names, st.Name)
	}
	return nil, nil, term.Usage("say which standing is meant: --for %s", strings.Join(names, ", or "))
}

// waitingFor is what waits for a standing.
func waitingFor(m *api.Model, standing string) (*api.Asking, error) {
	for i, w := range m.Waiting {
		if w.Standing == standing {
			return &m.Waiting[i], nil
		}
	}
	return nil, term.Exit{Code: term.ExitNotFound, Err: fmt.Errorf("no edition of %s waits for %s", m.Name, standing)}
}

func forFlag(cmd *cobra.Command, standing *string) {
	cmd.Flags().StringVar(standing, "for", "", "standing; in-use where it is not said")
}

func (a *Commands) propose() *cobra.Command {
	var standing, why string
	cmd := &cobra.Command{Use: "propose EDITION", Short: "Ask that an edition gets a standing",
		Args: term.Arguments("EDITION"),
		Long: `Ask that an edition gets a standing. One that is not guarded it has at once; else it is proposed, and has it as soon as the checks have passed and enough approvers
have signed off, of whom whoever asks is none. Where another edition got the standing meanwhile, nothing is done.`,
		Example: `  kembrel catalogue propose vessel-classifier#3 --why "better on every class"
  kembrel catalogue propose vessel-classifier#2 --for fallback`,
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := a.edition(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			m, st, err := a.standing(cmd.Context(), e.Model, standing)
			if err != nil {
				return err
			}
			in := &api.Ask{ModelInput: api.ModelInput{Model: m.Name}, Standing: st.Name}
			in.Body.Edition, in.Body.InsteadOf, in.Body.Why = e.Number, &st.Edition, why
			got, err := client.Call(cmd.Context(), a.Client(), api.AskFor, in)
			if err != nil {
				return err
			}
			fmt.Fprintln(a.Out, term.Printable(got.Says))
			if got.Taken {
				return nil
			}
			me, err := client.Call(cmd.Context(), a.Client(), api.GetMe, &struct{}{})
			if err != nil {
				return err
			}
			mine := func(name string) bool { return name == me.Name } // who asks does not sign off
			others := slices.DeleteFunc(slices.Clone(m.May.Approvers), mine)
			if len(others) == 0 {
				fmt.Fprintf(a.Out,
					"Nobody else may sign it off: kembrel roles set %s --person NAME --role approver changes that\n", m.Project)
				return nil
			}
			fmt.Fprintf(a.Out, "kembrel catalogue sign %s#%d --why \"...\" signs it off; that may: %s\n",
				m.Name, e.Number, term.Printable(strings.Join(others, ", ")))
			return nil
		}}
	forFlag(cmd, &standing)
	cmd.Flags().StringVar(&why, "why", "", "why, for those who decide")
	return cmd
}

func (a *Commands) sign() *cobra.Command {
	var standing, why string
	var undo bool
	cmd := &cobra.Command{Use: "sign EDITION", Short: "Sign off an edition for the standing that it waits for",
		Args: term.Arguments("EDITION"),
		Long: `Sign off an edition, as it is and on the checks as they are, for the standing that it waits for. The last sign-off that was wanted gives it the standing. Until then
--undo withdraws one's own.`,
		Example: `  kembrel catalogue sign vessel-classifier#3 --why "heard it at the quay for a day"
  kembrel catalogue sign vessel-classifier#3 --undo`,
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !undo && why == "" {
				return term.Usage("say why: --why \"...\"")
			}
			e, err := a.edition(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			m, st, err := a.standing(cmd.Context(), e.Model, standing)
			if err != nil {
				return err
			}
			w, err := waitingFor(m, st.Name)
			if err != nil {
				return err
			}
			at := api.AskingInput{ModelInput: api.ModelInput{Model: m.Name}, Asking: w.ID}
			var got *api.Asked
			if undo {
				got, err = client.Call(cmd.Context(), a.Client(), api.WithdrawSignOff, &at)
			} else {
				in := &api.SignOffInput{AskingInput: at}
				in.Body.Edition, in.Body.Why = e.Number, why
				got, err = client.Call(cmd.Context(), a.Client(), api.AddSignOff, in)
			}
			if err == nil {
				fmt.Fprintln(a.Out, term.Printable(got.Says))
			}
			return err
		}}
	forFlag(cmd, &standing)
	cmd.Flags().StringVar(&why, "why", "", "why, for those who come after")
	cmd.Flags().BoolVar(&undo, "undo", false, "withdraw one's own sign-off")
	return cmd
}

func (a *Commands) withdraw() *cobra.Command {
	var standing, why string
	cmd := &cobra.Command{Use: "withdraw EDITION", Short: "Take back that an edition was asked for a standing",
		Args:              term.Arguments("EDITION"),
		Example:           "  kembrel catalogue withdraw vessel-classifier#3 --why \"deaf to ferries\"",
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := a.edition(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			m, st, err := a.standing(cmd.Context(), e.Model, standing)
			if err != nil {
				return err
			}
			w, err := waitingFor(m, st.Name)
			if err != nil {
				return err
			}
			if w.Edition != e.Number {
				return term.Exit{Code: term.ExitExists, Err: fmt.Errorf("it is #%d that waits for %s", w.Edition,
					st.Name)}
			}
			in := &api.EndAskingInput{AskingInput: api.AskingInput{ModelInput: api.ModelInput{Model: m.Name},
				Asking: w.ID},
				Why: why}
			if _, err = client.Call(cmd.Context(), a.Client(), api.EndAsking, in); err == nil {
				fmt.Fprintf(a.Out, "%s waits for %s no more\n", e.Address, st.Name)
			}
			return err
		}}
	forFlag(cmd, &standing)
	cmd.Flags().StringVar(&why, "why", "", "why, for those who come after")
	return cmd
}

func (a *Commands) goBack() *cobra.Command {
	cmd := a.onStanding(func(ctx context.Context, model string, st *api.Standing, why string) (*api.Asked, error) {
		if why == "" {
			return nil, term.Usage("say why: --why \"...\"")
		}
		in := &api.GoBackInput{ModelInput: api.ModelInput{Model: model}, Standing: st.Name}
		in.Body.InsteadOf, in.Body.Why = &st.Edition, why
		return client.Call(ctx, a.Client(), api.GoBack, in)
	})
	cmd.Use, cmd.Short = "go-back STANDING", "Give a standing back to the edition that had it before"
	cmd.Long = `Give a standing back to the edition that had it before, at once: it was signed off then. Of a guarded standing approvers may.`
	cmd.Example = "  kembrel catalogue go-back vessel-classifier/in-use --why \"takes tugs for ferries in fog\""
	return cmd
}

func (a *Commands) clear() *cobra.Command {
	cmd := a.onStanding(func(ctx context.Context, model string, st *api.Standing, why string) (*api.Asked, error) {
		in := &api.Ask{ModelInput: api.ModelInput{Model: model}, Standing: st.Name}
		in.Body.InsteadOf, in.Body.Why = &st.Edition, why
		return client.Call(ctx, a.Client(), api.AskFor, in)
	})
	cmd.Use, cmd.Short = "clear STANDING", "Take a standing from the edition that has it"
	cmd.Example = "  kembrel catalogue clear vessel-classifier/fallback --why \"nobody uses it\""
	return cmd
}

// onStanding makes a command that does something with a standing and says what came of it.
func (a *Commands) onStanding(do func(ctx context.Context, model string, st *api.Standing,
	why string) (*api.Asked, error)) *cobra.Command {
	var why string
	cmd := &cobra.Command{Args: term.Arguments("STANDING"), ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "standing")
			if err != nil {
				return err
			}
			_, st, err := a.standing(cmd.Context(), at.Model, at.Standing)
			if err != nil {
				return err
			}
			got, err := do(cmd.Context(), at.Model, st, why)
			if err == nil {
				fmt.Fprintln(a.Out, term.Printable(got.Says))
			}
			return err
		}}
	cmd.Flags().StringVar(&why, "why", "", "why, for those who come after")
	return cmd
}
