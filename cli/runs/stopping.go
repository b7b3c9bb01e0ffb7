package runs

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Stop makes the command stop.
func (a *Commands) Stop() *cobra.Command {
	in := &api.StopInput{}
	cmd := &cobra.Command{Use: "stop RUN", Short: "Ask a run that is recorded to stop", Args: term.Arguments("RUN"),
		Long: `Ask a run that is recorded to stop. Its recorder hears within seconds and tells the program; one that was started by kembrel record and does not listen, or
goes on for half a minute (--grace of record), is asked to end (SIGTERM), and killed if it does not. With --advise it is told and no more. The run ends as
stopped; kembrel resume goes on with it.`,
		Example:           "  kembrel stop vessels/17 --why \"the sea state is wrong\"\n  kembrel stop vessels/17 --advise",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			run := term.RunOf(addr)
			in.RunInput = run
			out, err := client.Call(cmd.Context(), a.Client(), api.StopRun, in)
			if err != nil {
				return err
			}
			if out.Stopped != nil && out.Stopped.Checkpoint != "" {
				fmt.Fprintf(a.Out, "%s is told to stop; the checkpoint of its best reading is %s.\n", args[0],
					out.Stopped.Checkpoint)
				return nil
			}
			fmt.Fprintf(a.Out, "%s is told to stop.\n", args[0])
			return nil
		}}
	cmd.Flags().StringVar(&in.Body.Why, "why", "", "why; it is seen on the run")
	cmd.Flags().BoolVar(&in.Body.Advise, "advise", false, "tell the program, and do not end one that goes on")
	return cmd
}

// Output makes the command output.
func (a *Commands) Output() *cobra.Command {
	var follow bool
	var stream string
	var leg int
	cmd := &cobra.Command{Use: "output RUN", Short: "Print what a run's program has printed",
		Args: term.Arguments("RUN"),
		Long: `Print what a run's program has printed, as far as it was recorded: its output on this command's output, its errors on this command's errors.
With --follow it goes on as more comes, until the run has ended.`,
		Example:           "  kembrel output vessels/3\n  kembrel output vessels/3 --follow\n  kembrel output vessels/3 --stream stderr --leg 2",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			run := term.RunOf(addr)
			if stream != "" && stream != "stdout" && stream != "stderr" {
				return term.Usage("--stream is stdout or stderr, not %q", stream)
			}
			in := &api.OutputsInput{RunInput: run}
			for ended := false; ; {
				page, err := client.Call(cmd.Context(), a.Client(), api.GetOutput, in)
				if err != nil {
					return err
				}
				for _, o := range page.Items {
					in.After = o.ID
					if stream != "" && o.Stream != stream || leg != 0 && o.Leg != leg {
						continue
					}
					to := a.Out
					if o.Stream == "stderr" {
						to = a.Err
					}
					fmt.Fprint(to, o.Text)
				}
				switch {
				case len(page.Items) > 0:
					continue
				case !follow || ended:
					return nil
				}
				r, err := client.Call(cmd.Context(), a.Client(), api.GetRun, &run)
				if err != nil {
					return err
				}
				ended = r.State != "running" // what came before its end is read once more
				if ended {
					continue
				}
				select {
				case <-cmd.Context().Done(): // whoever follows has seen enough
					return nil
				case <-time.After(time.Second):
				}
			}
		}}
	f := cmd.Flags()
	f.BoolVarP(&follow, "follow", "f", false, "go on as more comes, until the run has ended")
	f.StringVar(&stream, "stream", "", "stdout or stderr alone")
	f.IntVar(&leg, "leg", 0, "of this leg alone")
	cmd.RegisterFlagCompletionFunc("stream", cobra.FixedCompletions([]string{"stdout", "stderr"},
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}
