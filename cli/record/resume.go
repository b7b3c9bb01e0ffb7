package record

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/checkpoint"
	"kembrel/core/plain"
	"kembrel/core/printed"
	"kembrel/recorder"
)

// goOn finds the checkpoint that a run goes on from: the one named, or the latest that does. with says that its weights
// are enough; more, that a run which has ended as it should goes on all the same.
func (a *Commands) goOn(ctx context.Context, address, with string,
	more bool) (*api.RunDetail, *recorder.Beginning, error) {
	addr, err := api.ParseAddress(address)
	if err != nil || addr.Run == 0 {
		return nil, nil, term.Usage("%q is neither a run nor a checkpoint, such as vessels/4 or vessels/4@e12", address)
	}
	o := a.RecorderOptions()
	say := func(format string, args ...any) { fmt.Fprintf(a.Err, "kembrel: "+format+"\n", args...) }
	if err := recorder.Leftovers(ctx, o, api.Address{Project: addr.Project, Run: addr.Run}.String(), say); err != nil {
		return nil, nil, err
	}
	in := term.RunOf(addr)
	run, err := client.Call(ctx, a.Client(), api.GetRun, &in)
	if err != nil {
		return nil, nil, err
	}
	if run.State == "finished" && !more {
		return nil, nil, term.Exit{Code: term.ExitExists,
			Err: fmt.Errorf("%s is finished: going on from its end would add a leg with nothing in it. To train it further: --more, with a command that trains more epochs; to try something else from one of its checkpoints: kembrel branch %s", run.Address, branchOf(run.Address, addr))}
	}
	at := addr.At.String()
	if at == "" {
		page, err := client.Call(ctx, a.Client(), api.ListCheckpoints, &in)
		if err != nil {
			return nil, nil, err
		}
		present := slices.DeleteFunc(page.Items, func(c api.Checkpoint) bool { return c.Replaced })
		if len(present) == 0 {
			return nil, nil, term.Exit{Code: term.ExitNotFound,
				Err: fmt.Errorf("%s has no checkpoint to go on from; run it again from the start: kembrel rerun %s",
					run.Address, run.Address)}
		}
		i := slices.IndexFunc(present, func(c api.Checkpoint) bool {
			return c.UsableFor == "resume" || with == "weights" &&
				c.UsableFor != "nothing"
		})
		if i < 0 {
			return nil, nil, unfit(present[0])
		}
		from, err := api.ParseAddress(present[i].Address)
		if err != nil {
			return nil, nil, err
		}
		at = from.At.String()
	}
	c, err := client.Call(ctx, a.Client(), api.GetCheckpoint, &api.CheckpointInput{RunInput: in, At: at})
	if err != nil {
		return nil, nil, err
	}
	b := &recorder.Beginning{Number: addr.Run, Checkpoint: c, Got: func(int64) {}, Done: func() {}}
	switch with {
	case "":
		if c.UsableFor != "resume" {
			return nil, nil, unfit(*c)
		}
	case "weights":
		for _, p := range c.Parts {
			if !checkpoint.OnlyToResume(p) {
				b.Parts = append(b.Parts, p)
			}
		}
		if !slices.Contains(c.Parts, checkpoint.Weights) {
			return nil, nil, term.Exit{Code: term.ExitFailed,
				Err: fmt.Errorf("%s has no weights; it has: %s", c.Address, strings.Join(c.Parts, ", "))}
		}
	default:
		return nil, nil, term.Usage("--with %q: the only choice is weights", with)
	}
	return run, b, nil
}

// branchOf is a checkpoint to branch from.
func branchOf(run string, addr api.Address) string {
	if at := addr.At.String(); at != "" {
		return run + "@" + at
	}
	return run + "@best"
}

func unfit(c api.Checkpoint) error {
	return term.Exit{Code: term.ExitFailed,
		Err: fmt.Errorf("%s does not do to go on as if nothing had happened: it lacks %s. To go on with its weights alone, which the run will say for ever: --with weights", c.Address, strings.Join(c.Lacks, ", "))}
}

// recordFlags are those of record that hold for everything that starts a program.
type recordFlags struct {
	o     recorder.Options
	title string
	rule  term.RuleFlags
	asked []string
	more  bool
}

func (r *recordFlags) add(f *pflag.FlagSet) {
	addRecording(f, &r.o)
	r.rule.Add(f, "stop-")
}

// start runs a program under a recorder and ends as it does.
func (a *Commands) start(cmd *cobra.Command, r *recordFlags, command []string, chosen []string) error {
	o := a.RecorderOptions()
	o.Wait, o.Content, o.Quiet, o.Enforce, o.Grace, o.Project, o.Title, o.Hyper, o.Begin, o.Chosen = r.o.Wait,
		r.o.Content, r.o.Quiet, r.o.Enforce, r.o.Grace, r.o.Project, r.title, r.o.Hyper, r.o.Begin, chosen
	o.Place, o.Substituted, o.Output, o.Data, o.Keep = r.o.Place, r.o.Substituted, r.o.Output, r.o.Data, r.o.Keep
	for _, pattern := range o.Keep {
		if err := recorder.CheckKeep(pattern); err != nil {
			return term.Usage("--keep %w", err)
		}
	}
	if o.Output != "" {
		if _, err := printed.New(o.Output); err != nil {
			return term.Usage("--read-output: %w", err)
		}
	}
	var err error
	if o.Stop, err = r.rule.Rule(cmd); err != nil {
		return err
	}
	a.checkFirst(cmd.Context(), &o)
	if b := o.Begin; b != nil && b.Checkpoint != nil {
		total := int64(0)
		for _, f := range b.Checkpoint.Files {
			if b.Parts == nil || slices.Contains(b.Parts, f.Part) {
				total += f.Size
			}
		}
		m := a.Meter(b.Checkpoint.Address, total)
		b.Got, b.Done = m.Add, m.Done
	}
	code, err := recorder.Command(cmd.Context(), o, command)
	if err == nil && code != 0 {
		err = term.Exit{Code: code, Err: nil}
	}
	return err
}

// checkFirst says loudly, even to the quiet, what the service would not take now. Training begins all the same.
func (a *Commands) checkFirst(ctx context.Context, o *recorder.Options) {
	if err := recorder.Check(ctx, o); err != nil {
		if api.Is(err, api.NotFound) {
			fmt.Fprintf(a.Err,
				"kembrel: NOTHING CAN BE DELIVERED YET: %v. The program starts all the same, and the spool (local buffer) keeps everything. Create the project, then run: kembrel spool send; or send it to another project: kembrel spool send SPOOL --project PROJECT\n", err)
			return
		}
		fmt.Fprintf(a.Err,
			"kembrel: %v. The program starts all the same, and the spool (local buffer) keeps everything. When the fault is fixed, run: kembrel spool send\n", err)
	}
}

// resumeRun goes on with a run under a recorder.
func (a *Commands) resumeRun(cmd *cobra.Command, r *recordFlags, address, with string, takeOver bool, p *place, command,
	chosen []string) error {
	detail, b, err := a.goOn(cmd.Context(), address, with, r.more)
	if err != nil {
		return err
	}
	run := detail.Address
	if p != nil {
		own := len(command) > 0
		if !own {
			command = detail.Recipe.Command
		}
		if len(command) == 0 {
			return term.Usage("%s does not say how it was started; give the command: kembrel resume %s -- COMMAND", run,
				run)
		}
		if err := a.trust(cmd.Context(), written{run, detail.Who, command, own, detail.Recipe, p}); err != nil {
			return err
		}
		if err := p.enter(cmd.Context(), detail.Recipe, own); err != nil {
			return err
		}
	}
	b.TakeOver, b.More = takeOver, r.more
	r.o.Project, r.o.Begin, r.o.Output = detail.Project, b, cmp.Or(r.o.Output, detail.Recipe.ReadOutput)
	r.o.Data, r.o.Keep = dataOf(r.o.Data, detail.Recipe), keepOf(r.o.Keep, detail.Recipe)
	if !r.o.Quiet {
		fmt.Fprintf(a.Err, "kembrel: %s goes on from %s (step %d): %s\n", run, b.Checkpoint.Address, b.Checkpoint.Step,
			plain.Line(term.Quoted(command)))
	}
	return a.start(cmd, r, command, chosen)
}

// resumeAttached goes on with a run that a program which runs already takes up.
func (a *Commands) resumeAttached(cmd *cobra.Command, o recorder.Options, address, with string, takeOver, more bool,
	program int, command []string) error {
	detail, b, err := a.goOn(cmd.Context(), address, with, more)
	if err != nil {
		return err
	}
	b.TakeOver, b.More = takeOver, more
	o.Project, o.Begin = detail.Project, b
	a.checkFirst(cmd.Context(), &o)
	return recorder.Attach(cmd.Context(), o, program, command, "")
}

// Resume makes the command resume.
func (a *Commands) Resume() *cobra.Command {
	var r recordFlags
	var p place
	var with string
	var takeOver bool
	cmd := &cobra.Command{Use: "resume RUN [-- COMMAND...]", Short: "Go on with a run, as its next leg",
		Long: `Go on with a run from its latest checkpoint that does for it, or from the one named, as the run's next leg. The program is started as it was
recorded: its command, in its folder,
	with its environment variables; it is told where to go on and given the parts of the checkpoint (docs/resuming.md). Curves go
on behind the checkpoint's step; what an earlier leg had recorded beyond it stays stored.

A recipe that somebody else recorded is shown and runs only when you say so; in scripts,
	--yes --from PERSON. A finished run is not resumed,
unless --more says that it is to train further.

A checkpoint that lacks what the run needs is refused,
	unless --with weights. A run is written by one leg at a time: while its recorder is still heard of,
resuming is refused, unless --take-over.`,
		Example: `  kembrel resume vessels/4
  kembrel resume vessels/4@e12
  kembrel resume vessels/4 --checkout /tmp/again --repository ~/harbour`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 || cmd.ArgsLenAtDash() > 1 || cmd.ArgsLenAtDash() < 0 && len(args) > 1 {
				return term.Usage("say which run: kembrel resume vessels/4 [-- COMMAND...]")
			}
			return a.resumeRun(cmd, &r, args[0], with, takeOver, &p, args[1:], nil)
		}}
	r.add(cmd.Flags())
	p.add(cmd.Flags())
	cmd.Flags().StringVar(&with, "with", "",
		"weights: go on with the weights alone where the checkpoint lacks the rest")
	cmd.Flags().BoolVar(&r.more, "more", false, "go on although the run is finished, to train it further")
	cmd.Flags().BoolVar(&takeOver, "take-over", false,
		"go on although the leg before is still heard of; that one is told to stop")
	return cmd
}

// Branch makes the command branch.
func (a *Commands) Branch() *cobra.Command {
	var r recordFlags
	var p place
	cmd := &cobra.Command{Use: "branch CHECKPOINT [-- COMMAND...]",
		Short: "Start a new run from another run's checkpoint",
		Long: `Start a new run that goes on from a checkpoint of another run, with some values changed. Its origin is recorded, and its curves are drawn as the
continuation of its parent's. A recipe that somebody else recorded is shown and runs only when you say so; in scripts, --yes --from PERSON. Without a command the parent's is taken, with the changed values in it. The program also gets them when it connects (docs/resuming.md).`,
		Example: `  kembrel branch vessels/4@e20 --hyper lr=0.001
  kembrel branch vessels/4@best --hyper freeze=1 -- ./harbour train --epochs 40`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 || cmd.ArgsLenAtDash() > 1 || cmd.ArgsLenAtDash() < 0 && len(args) > 1 {
				return term.Usage("say from which checkpoint: kembrel branch vessels/4@e20 [-- COMMAND...]")
			}
			addr, err := a.Checkpoint(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			in := term.RunOf(addr)
			parent, err := client.Call(cmd.Context(), a.Client(), api.GetRun, &in)
			if err != nil {
				return err
			}
			c, err := client.Call(cmd.Context(), a.Client(), api.GetCheckpoint,
				&api.CheckpointInput{RunInput: in, At: addr.At.String()})
			if err != nil {
				return err
			}
			b := &recorder.Beginning{Checkpoint: c, Origin: &api.Origin{Kind: "branch",
				From: c.Address, Parts: c.Parts}}
			return a.startAgain(cmd, &r, &p, parent, b, args[1:])
		}}
	r.add(cmd.Flags())
	r.addNew(cmd.Flags())
	p.add(cmd.Flags())
	return cmd
}

// Rerun makes the command rerun.
func (a *Commands) Rerun() *cobra.Command {
	var r recordFlags
	var p place
	cmd := &cobra.Command{Use: "rerun RUN", Short: "Run a run again from its recipe, with or without changed values",
		Long: `Run a run again, afresh: the recorded command, in its folder, with its environment variables. What differs from the recorded tree, packages and machine
is listed first. A recipe that somebody else recorded is shown and runs only when you say so; in scripts, --yes --from PERSON. After a rerun without changed values the two are compared: kembrel show says whether the run is repeatable.`,
		Example: `  kembrel rerun vessels/4
  kembrel rerun vessels/4 --hyper lr=0.01 --title "Lower rate"`,
		Args: term.Arguments("RUN"), ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			in := term.RunOf(addr)
			run, err := client.Call(cmd.Context(), a.Client(), api.GetRun, &in)
			if err != nil {
				return err
			}
			return a.startAgain(cmd, &r, &p, run,
				&recorder.Beginning{Origin: &api.Origin{Kind: "rerun", From: run.Address}}, nil)
		}}
	r.add(cmd.Flags())
	r.addNew(cmd.Flags())
	p.add(cmd.Flags())
	return cmd
}

// addNew adds the flags of commands that make a run.
func (r *recordFlags) addNew(f *pflag.FlagSet) {
	f.StringVar(&r.title, "title", "", "title of the new run")
	f.StringArrayVar(&r.asked, "hyper", nil, "a hyperparameter to be other, name=value; may be given many times")
}

// startAgain starts a new run that comes from another.
func (a *Commands) startAgain(cmd *cobra.Command, r *recordFlags, p *place, from *api.RunDetail, b *recorder.Beginning,
	command []string) error {
	asked, err := parseHyper(r.asked)
	if err != nil {
		return err
	}
	b.Asked, b.Origin.Asked = asked, asked
	own := len(command) > 0
	if !own {
		if command, r.o.Substituted, err = ask(from, asked, from.Recipe.Command); err != nil {
			return err
		}
	}
	if len(command) == 0 {
		return term.Usage("%s does not say how it was started", from.Address)
	}
	if err := a.trust(cmd.Context(), written{from.Address, from.Who, command, own, from.Recipe, p}); err != nil {
		return err
	}
	if err := p.enter(cmd.Context(), from.Recipe, own); err != nil {
		return err
	}
	if !r.o.Quiet {
		for _, d := range recorder.Differences(from.Recipe, recorder.Describe(cmd.Context(), command, nil)) {
			fmt.Fprintf(a.Err, "kembrel: differs from %s: %s\n", from.Address, d)
		}
		fmt.Fprintf(a.Err, "kembrel: from %s: %s\n", b.Origin.From, plain.Line(term.Quoted(command)))
	}
	r.o.Project, r.o.Begin, r.o.Output = from.Project, b, cmp.Or(r.o.Output, from.Recipe.ReadOutput)
	r.o.Data, r.o.Keep = dataOf(r.o.Data, from.Recipe), keepOf(r.o.Keep, from.Recipe)
	return a.start(cmd, r, command, nil)
}
