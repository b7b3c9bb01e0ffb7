package checkpoints

import (
	"context"
	"fmt"
	"math"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// keepFlags are the flags that make a keep rule.
type keepFlags struct{ value api.KeepRule }

func (k *keepFlags) add(f *pflag.FlagSet) {
	f.IntVar(&k.value.Best, "best", 0, "keep so many of the best by the objective")
	f.IntVar(&k.value.Last, "last", 0, "keep the newest so many")
	f.Float64Var(&k.value.Every, "every", 0, "keep one of every so many epochs")
	f.Float64Var(&k.value.Days, "days", 0, "keep those saved in the last so many days")
	f.StringVar(&k.value.Where, "where", "",
		`keep those that a condition holds for, such as 'at("accuracy.val") > 0.9'`)
	f.Float64Var(&k.value.Grace, "grace", 0,
		"days until the bytes go of what is not kept, in which it can be brought back; else 7")
}

// rule is the rule that was given, nil for none.
func (k *keepFlags) rule(cmd *cobra.Command) (*api.KeepRule, error) {
	return term.GivenRule(cmd, &k.value, "", "best", "last", "every", "days", "where", "grace")
}

// Keep makes the command keep.
func (a *Commands) Keep() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "keep ADDRESS", Short: "Show, set or try the rule by which checkpoints stay",
		Args: term.Arguments("ADDRESS"),
		Long: `A keep rule says which checkpoints of a run stay: the best, the last, one of every so many epochs, the newest, or those for which a condition holds. A
checkpoint stays if any part of the rule keeps it. Whatever the rule says, those stay that are pinned, from which another run began, and the last one of a run that is
not over. All others begin a grace period of some days; then their bytes go, and their figures and digests are still listed. A project's rule holds for its runs, unless a
run has its own. Rules are applied when they are set and every ten minutes.

In a condition at("NAME"), epoch, step and size are the checkpoint's; all else is the run's, as in kembrel runs --where.`,
		Example: `  kembrel keep vessels
  kembrel keep try vessels --best 3 --last 1
  kembrel keep set vessels --best 3 --last 1 --every 10 --where 'at("accuracy.val") > 0.95'
  kembrel keep set vessels/7 --all
  kembrel keep clear vessels`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			state, err := term.ToProjectOrRun(args[0], "keep rule", func(in api.ProjectInput) (*api.KeepState, error) {
				return client.Call(cmd.Context(), a.Client(), api.GetKeepRule, &in)
			}, func(in api.RunInput) (*api.KeepState, error) {
				return client.Call(cmd.Context(), a.Client(), api.GetRunKeepRule, &in)
			})
			if err != nil {
				return err
			}
			return a.Print(output, keepTable(args[0], state), state)
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.keepSet(), a.keepUnset(), a.keepTry())
	return cmd
}

func keepTable(address string, s *api.KeepState) term.Listing {
	l := term.List("of", "rule", "grace period")
	period := ""
	if s.Rule != nil {
		period = days(s.Rule.GracePeriod().Hours() / 24)
	}
	of := address
	if strings.Contains(address, "/") && s.From == "project" {
		of = "project"
	}
	l.Add(of, s.Said, period)
	return l
}

func days(n float64) string {
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%g days", n)
}

func (a *Commands) keepSet() *cobra.Command {
	var rule keepFlags
	var all bool
	cmd := &cobra.Command{Use: "set ADDRESS", Short: "Set the keep rule of a project, or of a run",
		Args:              term.Arguments("ADDRESS"),
		Long:              "Set the keep rule of a project, or of a run. What it does not keep begins its grace period at once; kembrel keep try shows beforehand what that is.",
		Example:           "  kembrel keep set vessels --best 3 --last 1\n  kembrel keep set vessels/7 --every 10 --grace 14\n  kembrel keep set vessels/7 --all",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			given, err := rule.rule(cmd)
			switch {
			case err != nil:
				return err
			case all && given != nil:
				return term.Usage("--all goes with no other flag")
			case !all && given == nil:
				return term.Usage("say what stays, such as --best 3 --last 1")
			}
			return a.changeKeep(cmd, args[0], func(in api.ProjectInput) (*api.KeepState, error) {
				if all {
					return nil,
						term.Usage("--all is for a run whose project has a rule; kembrel keep clear takes a project's away")
				}
				return client.Call(cmd.Context(), a.Client(), api.SetKeepRule,
					&api.KeepRuleInput{ProjectInput: in, Body: *given})
			}, func(in api.RunInput) (*api.KeepState, error) {
				set := &api.RunKeepRuleInput{RunInput: in}
				set.Body.None, set.Body.Rule = all, given
				return client.Call(cmd.Context(), a.Client(), api.SetRunKeepRule, set)
			})
		}}
	rule.add(cmd.Flags())
	cmd.Flags().BoolVar(&all, "all", false, "all checkpoints of this run stay, whatever its project's rule is")
	return cmd
}

func (a *Commands) keepUnset() *cobra.Command {
	return &cobra.Command{Use: "clear ADDRESS",
		Short:   "Take the keep rule away: of a project, or of a run, which then follows its project's",
		Args:    term.Arguments("ADDRESS"),
		Example: "  kembrel keep clear vessels/7", ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.changeKeep(cmd, args[0], func(in api.ProjectInput) (*api.KeepState, error) {
				return client.Call(cmd.Context(), a.Client(), api.DropKeepRule, &in)
			}, func(in api.RunInput) (*api.KeepState, error) {
				return client.Call(cmd.Context(), a.Client(), api.DropRunKeepRule, &in)
			})
		}}
}

// changeKeep changes a keep rule and says what goes by it.
func (a *Commands) changeKeep(cmd *cobra.Command, text string, ofProject func(api.ProjectInput) (*api.KeepState, error),
	ofRun func(api.RunInput) (*api.KeepState, error)) error {
	state, err := term.ToProjectOrRun(text, "keep rule", ofProject, ofRun)
	if err != nil {
		return err
	}
	addr, err := api.ParseAddress(text)
	if err != nil {
		return err
	}
	try := &api.TryKeepInput{ProjectInput: term.ProjectOf(addr)}
	if addr.Run > 0 {
		try.Body.Runs = []int{addr.Run}
	}
	tried, err := client.Call(cmd.Context(), a.Client(), api.TryKeepRule, try)
	if err != nil {
		return err
	}
	if err := a.Print("table", keepTable(text, state), state); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "\n%s\n", tried.Says)
	if tried.Going > 0 {
		fmt.Fprintf(a.Out, "kembrel keep try %s lists them; kembrel pin keeps one.\n", text)
	}
	return nil
}

func (a *Commands) keepTry() *cobra.Command {
	var rule keepFlags
	var output string
	var onlyGoing bool
	cmd := &cobra.Command{Use: "try ADDRESS...",
		Short:             "Show what a rule would delete and what that frees, before anything is deleted",
		Long:              "Show what would go by a rule and what that frees, of a project or of some of its runs. Without a rule: by those that are set. Nothing is changed.",
		Example:           "  kembrel keep try vessels --best 3 --last 1\n  kembrel keep try vessels/2 vessels/3 --every 5\n  kembrel keep try vessels --to-delete",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("say of what: kembrel keep try vessels --best 3 --last 1")
			}
			given, err := rule.rule(cmd)
			if err != nil {
				return err
			}
			in := &api.TryKeepInput{}
			in.Body.Rule = given
			if in.Project, in.Body.Runs, err = term.ProjectOrRuns(args); err != nil {
				return err
			}

			tried, err := client.Call(cmd.Context(), a.Client(), api.TryKeepRule, in)
			if err != nil {
				return err
			}
			l := term.List("checkpoint", "", "why it stays", "objective#", "size#", "alone frees#", "saved")
			l.Shorten = "why it stays"
			l.Empty = "There is no checkpoint."
			for _, c := range tried.Checkpoints {
				if onlyGoing && c.Stays {
					continue
				}
				goes, figure := "to be deleted", ""
				if c.Stays {
					goes = "stays"
				}
				if !math.IsNaN(float64(c.Figure)) {
					figure = term.Number(float64(c.Figure))
				}
				l.Add(c.Address, goes, strings.Join(c.Why, ", "), figure, api.Bytes(c.Size), api.Bytes(c.Frees),
					term.When(c.Saved))
			}
			if onlyGoing && tried.Going == 0 {
				l.Empty = "Nothing would be deleted."
			}
			if err := a.Print(output, l, tried); err != nil || output != "table" {
				return err
			}
			fmt.Fprintf(a.Out, "\nThe rule %s.\n%s Nothing has been changed.\n", tried.Said, tried.Says)
			return nil
		}}
	a.OutputFlag(cmd, &output)
	rule.add(cmd.Flags())
	cmd.Flags().BoolVar(&onlyGoing, "to-delete", false, "list only what would be deleted")
	return cmd
}

// Pin makes the command pin.
func (a *Commands) Pin() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{Use: "pin CHECKPOINT...", Short: "Keep checkpoints from being dropped, or no longer",
		Long:              "Keep checkpoints from being dropped, whatever a rule says. Anybody may pin; --undo is for the run's maker and administrators.",
		Example:           "  kembrel pin vessels/3@best\n  kembrel pin --undo vessels/3@e12",
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.eachCheckpoint(args, func(in api.CheckpointInput) (*api.Checkpoint, error) {
				pin := &api.PinInput{CheckpointInput: in}
				pin.Body.Pinned = !undo
				return client.Call(cmd.Context(), a.Client(), api.PinCheckpoint, pin)
			})
		}}
	cmd.Flags().BoolVar(&undo, "undo", false, "no longer")
	return cmd
}

// Drop makes the command drop.
func (a *Commands) Drop() *cobra.Command {
	var undo bool
	days := 7.0
	cmd := &cobra.Command{Use: "drop CHECKPOINT...",
		Short: "Drop the bytes of checkpoints after a grace period, or bring them back",
		Long: `Drop the bytes of checkpoints after a grace period of some days. Until then --undo brings them back (where a rule dropped them they are pinned, or the rule would drop
them again), and they can be restored as ever. What stays of a dropped checkpoint: its row, its figures, its files' digests and the statistics of its weights.`,
		Example:           "  kembrel drop vessels/3@e4 vessels/3@e5\n  kembrel drop --undo vessels/3@e4\n  kembrel drop --days 0 vessels/3@e5",
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if days < 0 || days > 365 {
				return term.Usage("--days %g: from 0 to 365", days)
			}
			return a.eachCheckpoint(args, func(in api.CheckpointInput) (*api.Checkpoint, error) {
				if undo {
					return client.Call(cmd.Context(), a.Client(), api.KeepCheckpoint, &in)
				}
				// The client leaves zero values out, and the service's default would take their place.
				return client.Call(cmd.Context(), a.Client(), api.DropCheckpoint,
					&api.DropInput{CheckpointInput: in, Days: max(days, 1e-9)})
			})
		}}
	cmd.Flags().Float64Var(&days, "days", days, "until the bytes go")
	cmd.Flags().BoolVar(&undo, "undo", false, "bring them back")
	return cmd
}

// eachCheckpoint does something to every checkpoint that is named and says what becomes of it.
func (a *Commands) eachCheckpoint(args []string, do func(in api.CheckpointInput) (*api.Checkpoint, error)) error {
	if len(args) == 0 {
		return term.Usage("say which checkpoints, such as vessels/4@e12")
	}
	var all []api.Address
	for _, text := range args {
		addr, err := term.Address(text, true, true)
		if err != nil {
			return err
		}
		all = append(all, addr)
	}
	for _, addr := range all {
		c, err := do(api.CheckpointInput{RunInput: term.RunOf(addr), At: addr.At.String()})
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Out, "%s %s\n", c.Address, term.FateOf(c))
	}
	return nil
}

// storageFree gives back what nothing holds.
func (a *Commands) storageFree() *cobra.Command {
	var output string
	in := &api.FreeInput{}
	cmd := &cobra.Command{Use: "free", Short: "Give back at once what no checkpoint holds any more",
		Args: term.Arguments(),
		Long: `Say how many bytes no checkpoint holds any more and, with --now, give them back at once, where cleaning would within about a day. What is dropped and still in
its days of grace stays: kembrel drop --days 0 ends these. A checkpoint that is being sent meanwhile may have to be sent again. For administrators.`,
		Example: "  kembrel storage free\n  kembrel drop --days 0 vessels/1@e5 && kembrel storage free --now",
		RunE: func(cmd *cobra.Command, _ []string) error {
			f, err := client.Call(cmd.Context(), a.Client(), api.FreeStorage, in)
			if err != nil {
				return err
			}
			l := term.List("", "value#")
			if in.Body.Now {
				l.Add("freed", api.Bytes(f.Freed))
				l.Add("files deleted", fmt.Sprint(f.Packs))
			}
			l.Add("held by no checkpoint", api.Bytes(f.Loose))
			if d := f.Disk; d != nil {
				l.Add("free on the disk", api.Bytes(d.Free))
				l.Add("kept for the database", api.Bytes(d.Reserve))
				l.Add("missing", api.Bytes(d.Missing))
			}
			return a.Print(output, l, f)
		}}
	cmd.Flags().BoolVar(&in.Body.Now, "now", false, "give them back now")
	a.OutputFlag(cmd, &output)
	return cmd
}

// Sizes makes the command storage.
func (a *Commands) Sizes() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "storage [PROJECT | RUN]",
		Short: "What takes how many bytes, and what dropping it frees",
		Long: `What takes how many bytes: of all projects, of the runs of one, or of the checkpoints of a run. Checkpoints share the chunks that are equal: own is what nothing else
holds, which dropping frees; shared is held by others too.`,
		Example:           "  kembrel storage\n  kembrel storage vessels\n  kembrel storage vessels/3\n  kembrel storage free --now",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			in := &api.StorageInput{}
			if len(args) == 1 {
				addr, err := api.ParseAddress(args[0])
				if err != nil || addr.At.Kind != api.AtNone {
					return term.Usage("%q is neither a project nor a run", args[0])
				}
				if addr.Run > 0 {
					return a.checkpointSizes(cmd.Context(), addr, output)
				}
				in.Project = addr.Project
			}
			s, err := client.Call(cmd.Context(), a.Client(), api.GetStorage, in)
			if err != nil {
				return err
			}
			l := term.List("", "title", "checkpoints#", "whole#", "stored#", "own#", "shared#",
				"to be deleted#", "dropped#")
			l.Shorten, l.Spare = "title", []string{"shared", "dropped", "whole"}
			row := func(name, title string, z api.Sizes) {
				l.Add(name, title, fmt.Sprint(z.Checkpoints), api.Bytes(z.Whole), api.Bytes(z.Stored), api.Bytes(z.Own),
					api.Bytes(z.Stored-z.Own), fmt.Sprint(z.Going), fmt.Sprint(z.Dropped))
			}
			for _, i := range s.Items {
				row(i.Address, i.Title, i.Sizes)
			}
			row("together", "", s.Total)
			if err := a.Print(output, l, s); err != nil || output != "table" {
				return err
			}
			for _, b := range s.Beside {
				fmt.Fprintf(a.Out, "%s %s beside checkpoints, %s before they are packed\n", api.Thousands(b.Count), b.Kind,
					api.Bytes(b.Bytes))
			}
			if s.Loose == 0 {
				return nil
			}
			fmt.Fprintf(a.Out, "\n%s more are held by no checkpoint; cleaning frees them within about a day, kembrel storage free --now at once.\n", api.Bytes(s.Loose))
			return nil
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.storageFree())
	return cmd
}

// checkpointSizes lists what each checkpoint of a run takes.
func (a *Commands) checkpointSizes(ctx context.Context, addr api.Address, output string) error {
	in := term.RunOf(addr)
	page, err := client.Call(ctx, a.Client(), api.ListCheckpoints, &in)
	if err != nil {
		return err
	}
	l := term.List("checkpoint", "", "whole#", "stored#", "own#", "shared#", "what becomes of it")
	l.Shorten, l.Empty = "what becomes of it", fmt.Sprintf("%s has no checkpoint.", addr)
	for _, c := range page.Items {
		l.Add(c.Address, strings.Join(term.MarksOf(c), " "), api.Bytes(c.Size), api.Bytes(c.Stored), api.Bytes(c.Frees),
			api.Bytes(c.Stored-c.Frees), term.FateOf(&c))
	}
	return a.Print(output, l, page)
}
