package evaluations

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/core/curve"
)

// Verify makes the command verify.
func (a *Commands) Verify() *cobra.Command {
	var output, data string
	var tolerance float64
	cmd := &cobra.Command{Use: "verify CHECKPOINT -- COMMAND...",
		Short: "Evaluate a checkpoint, and compare the figures with those recorded",
		Long: `Evaluate a checkpoint as kembrel evaluate does, and compare the figures that your program reports with those recorded when it was saved. The outcome is
kept with the checkpoint. Ends with 7 where they are not the same.`,
		Example: `  kembrel verify vessels/3@best -- ./harbour evaluate
  kembrel verify vessels/3@best --tolerance 1e-6 -- python3 evaluate.py {folder}`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.ArgsLenAtDash() != 1 || len(args) < 2 {
				return term.Usage("say what to run, behind two hyphens: kembrel verify vessels/3@best -- ./harbour evaluate")
			}
			addr, err := a.Checkpoint(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			within := api.Float(tolerance)
			r := &evaluating{Commands: a, command: args[1:], data: data, verify: &within, wait: 10 * time.Second}
			if err := r.look(cmd.Context()); err != nil {
				return err
			}
			e, err := r.one(cmd.Context(), addr)
			if err != nil {
				return err
			}
			v := e.Verified
			l := term.List("curve", "recorded#", "found#", "difference#", "")
			for _, f := range v.Figures {
				if f.Recorded == nil {
					l.Add(f.Curve, "", term.Number(float64(f.Found)), "", "was not recorded")
					continue
				}
				recorded, found := curve.Apart(float64(*f.Recorded), float64(f.Found))
				less, mark := "", "the same"
				if *f.Recorded != f.Found {
					less = fmt.Sprintf("%+.3g", float64(f.Found)-float64(*f.Recorded))
				}
				if !f.Same {
					mark = "another"
				}
				l.Add(f.Curve, recorded, found, less, mark)
			}
			if err := a.Print(output, l, v); err != nil {
				return err
			}
			if output == "table" {
				fmt.Fprintln(a.Out, v.Says)
			}
			if !v.Same {
				return term.Exit{Code: term.ExitDiffers, Err: nil}
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().StringVar(&data, "data", "", "on what it is evaluated, such as val, or hydrophone#3:val")
	cmd.Flags().Float64Var(&tolerance, "tolerance", 0, "largest difference that counts as the same; 0: exact")
	return cmd
}
