package record

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/hyper"
	"kembrel/host"
	"kembrel/recorder"
	"kembrel/recorder/spool"
)

// Record makes the command record.
func (a *Commands) Record() *cobra.Command {
	var adopt, again, with string
	var assignments, chosen, filled []string
	var takeOver, showRecipe bool
	var r recordFlags
	var attach int
	cmd := &cobra.Command{Use: "record --project PROJECT -- COMMAND...",
		Short: "Run a training program under a recorder",
		Long: `Run a training program under a recorder. What the program says over the recorder's socket (docs/recorder-protocol.md), its
output,
	how it was started and how it ended become a run. Everything is kept on disk first and sent in the background: training never waits
for the service, nor fails because of it. The exit code is the program's own.`,
		Example: `  kembrel record --project vessels -- ./harbour train --hidden 128
  kembrel record --resume vessels/4 -- ./harbour train --hidden 128
  kembrel record --show-recipe -- ./harbour train --hidden 128
  kembrel record --project vessels --title "Wide net" --hyper lr=0.01 --hyper 'layers=[384,512,6]' -- ./train.sh`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 && attach == 0 {
				return term.Usage("say what to run, behind two hyphens: kembrel record --project vessels -- ./harbour train")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			o := a.RecorderOptions()
			for _, name := range chosen {
				if recorder.Secret(name) {
					return term.Usage("--env %s: a variable with such a name is not recorded, as it may hold a secret",
						name)
				}
			}
			if showRecipe {
				return term.WriteJSON(a.Out, recorder.Describe(cmd.Context(), args, chosen))
			}
			if again != "" && attach == 0 {
				return a.resumeRun(cmd, &r, again, with, takeOver, nil, args, chosen)
			}
			o.Project, o.Title, o.Wait, o.Content, o.Quiet, o.Enforce, o.Grace, o.Chosen = r.o.Project, r.title,
				r.o.Wait, r.o.Content, r.o.Quiet, r.o.Enforce, r.o.Grace, chosen
			if o.Stop, err = r.rule.Rule(cmd); err != nil {
				return err
			}
			if adopt != "" {
				return recorder.Attach(cmd.Context(), o, attach, nil, adopt)
			}
			if again != "" {
				return a.resumeAttached(cmd, o, again, with, takeOver, r.more, attach, args)
			}
			if r.o.Hyper, err = parseHyper(assignments); err != nil {
				return err
			}
			// the program is given the values, and uses those that stand in its command or that it takes
			if r.o.Search > 0 {
				r.o.Begin = &recorder.Beginning{Asked: r.o.Hyper}
				r.o.Substituted, r.o.Hyper = only(r.o.Hyper, filled), nil
			}
			if attach == 0 {
				return a.start(cmd, &r, args, chosen)
			}
			o.Hyper, o.Data = r.o.Hyper, r.o.Data
			a.checkFirst(cmd.Context(), &o)
			return recorder.Attach(cmd.Context(), o, attach, args, "")
		}}
	f := cmd.Flags()
	f.StringVar(&r.o.Project, "project", os.Getenv("KEMBREL_PROJECT"), "project of the run [KEMBREL_PROJECT]")
	f.StringVar(&r.title, "title", "", "title of the run")
	f.StringArrayVar(&assignments, "hyper", nil, "a hyperparameter, name=value; may be given many times")
	f.BoolVar(&showRecipe, "show-recipe", false,
		"print what would be kept of how the program is started, and start nothing")
	f.StringArrayVar(&chosen, "env", nil,
		"an environment variable to record, beside the usual ones; may be given many times")
	f.StringVar(&again, "resume", "", "go on with this run, or from this checkpoint, as its next leg")
	f.StringVar(&with, "with", "",
		"with --resume: weights, to go on with the weights alone where the checkpoint lacks the rest")
	f.BoolVar(&r.more, "more", false, "with --resume: go on although the run is finished, to train it further")
	f.BoolVar(&takeOver, "take-over", false,
		"with --resume: go on although the leg before is still heard of; that one is told to stop")
	r.add(f)
	f.IntVar(&attach, "attach", 0, "record a program that runs already, by its process id (used by bindings)")
	f.StringVar(&adopt, "adopt", "", "with --attach: go on with the spool in this folder (used by bindings)")
	f.IntVar(&r.o.Search, "search", 0, "number of the search that this is a trial of (used by kembrel search)")
	f.StringArrayVar(&filled, "filled", nil, "with --search: a hyperparameter that stands in the command")
	f.MarkHidden("filled")
	f.IntVar(&r.o.Trial, "trial", 0, "with --search: which trial")
	f.MarkHidden("search")
	f.MarkHidden("trial")
	f.MarkHidden("attach")
	f.MarkHidden("adopt")
	cmd.RegisterFlagCompletionFunc("project", a.Complete(false, false))
	return cmd
}

// addRecording adds the flags of everything that runs a program under a recorder.
func addRecording(f *pflag.FlagSet, o *recorder.Options) {
	f.DurationVar(&o.Wait, "wait", 10*time.Second,
		"how long to wait, once the program has ended, for a service that does not answer")
	f.BoolVar(&o.Enforce, "enforce-stop", false,
		"end the program (SIGTERM, then SIGKILL) when the stop rule says so and it goes on")
	f.DurationVar(&o.Grace, "grace", 30*time.Second,
		"with --enforce-stop: how long the program may take to end, each time")
	f.BoolVar(&o.Content, "cut-by-content", false,
		"cut files of checkpoints that have no tensors we know by their content, so that what moves within them is not kept again; slower")
	f.StringVar(&o.Output, "read-output", "",
		"find readings in what the program prints: auto (name=0.31, name: 0.31 and JSON lines, with their step or epoch), or a regular expression with named groups such as '(?P<epoch>\\d+).*loss (?P<loss_val>\\S+)'")
	f.Var((*dataFlag)(&o.Data), "data",
		"what data the run uses, such as val=hydrophone#3:val; may be given many times")
	f.StringArrayVar(&o.Keep, "keep", nil,
		"files that the program writes and that are kept with the run at its end, such as 'out/*.csv' or 'report/**'; may be given many times")
	f.BoolVar(&o.Quiet, "quiet", false, "print nothing of the recorder's own")
}

// only are the values of some names.
func only(values map[string]json.RawMessage, names []string) map[string]json.RawMessage {
	out := map[string]json.RawMessage{}
	for _, name := range names {
		if v, ok := values[name]; ok {
			out[name] = v
		}
	}
	return out
}

func parseHyper(assignments []string) (map[string]json.RawMessage, error) {
	out := map[string]json.RawMessage{}
	for _, text := range assignments {
		name, value, err := hyper.Parse(text)
		if err != nil {
			return nil, term.Usage("%w", err)
		}
		if _, twice := out[name]; twice {
			return nil, term.Usage("hyperparameter %q is given twice", name)
		}
		out[name] = value
	}
	return out, nil
}

// SpoolCommand makes the command spool.
func (a *Commands) SpoolCommand() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "spool",
		Short: "List what recorders keep on this host and the service has not confirmed", Args: term.Arguments(),
		Example: "  kembrel spool\n  kembrel spool send",
		RunE: func(cmd *cobra.Command, _ []string) error {
			spools, err := spool.List(term.SpoolRoots()...)
			if err != nil {
				return err
			}
			l := term.List("spool", "run", "title", "state", "records#", "checkpoints#", "size#", "started", "remark")
			l.Empty = "Nothing waits: the service has confirmed everything."
			for _, s := range spools {
				run, state := s.Run, "left"
				if run == "" {
					run = s.Project + "/?"
				}
				if s.Held {
					state = "recording"
				}
				l.Add(s.ID, run, s.Title, state, fmt.Sprint(s.Records), fmt.Sprint(s.Checkpoints), api.Bytes(s.Bytes),
					term.When(s.Started), strings.TrimSpace(s.Damaged+" "+s.Why))
			}
			return a.Print(output, l, map[string]any{"folders": term.SpoolRoots(), "items": term.OrEmpty(spools)})
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.spoolSend(), a.spoolDrop())
	return cmd
}

func (a *Commands) spoolDrop() *cobra.Command {
	return &cobra.Command{Use: "drop SPOOL...", Short: "Give up what dead recorders left: it is lost",
		Example: "  kembrel spool drop 0190f5b2",
		Long: `Give up what dead recorders left and the service has not confirmed: readings and checkpoints in it are lost. What the service has of a checkpoint that was
not committed is cleaned away there within about a day.`,
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("say which spools; kembrel spool lists them")
			}
			spools, err := spool.List(term.SpoolRoots()...)
			if err != nil {
				return err
			}
			for _, id := range args {
				i := slices.IndexFunc(spools, func(s spool.Info) bool { return s.ID == id })
				if i < 0 {
					return term.Exit{Code: term.ExitNotFound,
						Err: fmt.Errorf("there is no spool %q; kembrel spool lists them", id)}
				}
				s, err := spool.Open(spools[i].Folder)
				if errors.Is(err, spool.ErrHeld) {
					return term.Exit{Code: term.ExitExists,
						Err: fmt.Errorf("%s: its recorder lives; end its program first", id)}
				}
				if err == nil {
					err = s.Remove()
				}
				if host.NoRoom(err) {
					return fmt.Errorf("%s cannot be given up while the disk is full: taking hold of it needs a few kilobytes. Free some, or remove the folder %s yourself",
						id, spools[i].Folder)
				}
				if err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s is given up: %d records and %d checkpoints, %s, are lost.\n", id,
					spools[i].Records, spools[i].Checkpoints, api.Bytes(spools[i].Bytes))
			}
			return nil
		}}
}

func (a *Commands) spoolSend() *cobra.Command {
	var to, into string
	cmd := &cobra.Command{Use: "send [SPOOL...]", Short: "Send what dead recorders left",
		Long: `Send what dead recorders left, each to the service that it was recorded for; with --to, to another address: that of a service that has moved.
A service that has not heard of a run begins it anew.`,
		Example: "  kembrel spool send\n  kembrel spool send 0190f5b2 --project vessels\n  kembrel spool send 0190f5b2 --to https://kembrel.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			o := a.RecorderOptions()
			if o.Into = into; into != "" {
				if err := api.CheckProjectKey(into); err != nil {
					return term.Usage("--project: %w", err)
				}
				if len(args) == 0 {
					return term.Usage("--project needs the spools that go there: kembrel spool lists them")
				}
			}
			if to != "" {
				to = client.Address(to)
				o.Connect = func(string) *client.Client { return term.Connect(to) }
			}
			spools, err := spool.List(o.Roots...)
			if err != nil {
				return err
			}
			wanted := map[string]bool{}
			for _, id := range args {
				wanted[id] = true
			}
			o.Progress, o.Force = term.IsTerminal(a.Err), len(args) > 0
			var failed error
			count := 0
			for _, s := range spools {
				if len(args) > 0 && !wanted[s.ID] {
					continue
				}
				delete(wanted, s.ID)
				if s.Held {
					fmt.Fprintf(a.Err, "%s: its recorder lives and sends it\n", s.ID)
					continue
				}
				if _, err := client.Call(cmd.Context(), o.Connect(s.Service), api.GetReady,
					&struct{}{}); err != nil {
					failed = err
					fmt.Fprintf(a.Err, "%s: %v\n", s.ID, err)
					continue
				}
				sent, err := recorder.SendLeftover(cmd.Context(), o, s.Folder,
					func(format string, args ...any) {
						fmt.Fprintf(a.Err, "%s: %s\n", s.ID, fmt.Sprintf(format, args...))
					})
				if errors.Is(err, spool.ErrHeld) {
					fmt.Fprintf(a.Err,
						"%s: its program still lives and may be starting another recorder; name the spool to send it all the same\n", s.ID)
					continue
				}
				if err != nil {
					failed = err
					fmt.Fprintf(a.Err, "%s: %v\n", s.ID, err)
					continue
				}
				count++
				fmt.Fprintf(a.Out, "%s: sent %s\n", s.ID, sent.Say())
			}
			for id := range wanted {
				failed = term.Exit{Code: term.ExitNotFound,
					Err: fmt.Errorf("there is no spool %q; kembrel spool lists them", id)}
			}
			if failed == nil && count == 0 {
				fmt.Fprintln(a.Out, "Nothing to send.")
			}
			return failed
		}}
	cmd.Flags().StringVar(&into, "project", "",
		"begin the run in this project, where the service does not know it yet: it named none, or one that is not there")
	cmd.Flags().StringVar(&to, "to", "", "another address of the service than what was recorded for")
	return cmd
}
