package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/catalogue"
	"kembrel/cli/checkpoints"
	"kembrel/cli/compare"
	"kembrel/cli/curves"
	"kembrel/cli/data"
	"kembrel/cli/evaluations"
	"kembrel/cli/files"
	"kembrel/cli/history"
	"kembrel/cli/lineage"
	"kembrel/cli/people"
	"kembrel/cli/predictions"
	"kembrel/cli/projects"
	"kembrel/cli/record"
	"kembrel/cli/runs"
	"kembrel/cli/subscriptions"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/plain"
)

type (
	ofRecord      = record.Commands
	ofRuns        = runs.Commands
	ofProjects    = projects.Commands
	ofCurves      = curves.Commands
	ofHistory     = history.Commands
	ofCheckpoints = checkpoints.Commands
	ofCompare     = compare.Commands
	ofPeople      = people.Commands
	ofData        = data.Commands
	ofPredictions = predictions.Commands
	ofEvaluations = evaluations.Commands
	ofFiles       = files.Commands
	ofLineage     = lineage.Commands
	ofCatalogue   = catalogue.Commands

	ofSubscriptions = subscriptions.Commands
)

// commands are those of all folders.
type commands struct {
	*term.App
	ofRecord
	ofRuns
	ofProjects
	ofCurves
	ofHistory
	ofCheckpoints
	ofCompare
	ofPeople
	ofData
	ofPredictions
	ofEvaluations
	ofFiles
	ofLineage
	ofCatalogue
	ofSubscriptions
}

// New makes the command tree. more are commands from elsewhere, made with the same App; one whose Use begins with
// "blobs " belongs below blobs.
func New(version string, more ...func(*term.App) *cobra.Command) *cobra.Command {
	app := &term.App{Settings: term.NewSettings(), Version: version, In: os.Stdin, Out: &plain.Writer{To: os.Stdout},
		Err: &plain.Writer{To: os.Stderr}}
	a := commands{app, record.Commands{App: app}, runs.Commands{App: app}, projects.Commands{App: app},
		curves.Commands{App: app}, history.Commands{App: app}, checkpoints.Commands{App: app},
		compare.Commands{App: app}, people.Commands{App: app}, data.Commands{App: app},
		predictions.Commands{App: app}, evaluations.Commands{App: app}, files.Commands{App: app},
		lineage.Commands{App: app}, catalogue.Commands{App: app},
		subscriptions.Commands{App: app}}
	root := &cobra.Command{
		Use:   "kembrel",
		Short: "Record, watch, compare and restore training runs",
		Long: `Kembrel records training runs: hyperparameters, curves, checkpoints.

Addresses name things:  vessels  vessels/17  vessels/17@e12  vessels/17@s4800  vessels/17@best  vessels/17@last
vessels/last is the latest run.`,
		Example: `  kembrel start
  kembrel record --project vessels -- ./harbour train
  kembrel follow vessels/3
  kembrel restore vessels/3@best --into model`,
		Version:       version,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(cmd *cobra.Command, args []string) error {
			if err := a.Settings.Load(cmd.Flags()); err != nil {
				return err
			}
			return a.latest(cmd, args)
		},
	}
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return term.Usage("%w; see %s --help", err, cmd.CommandPath())
	})
	a.Settings.Add(root.PersistentFlags(), "url")
	blobs := a.Blobs()
	for _, f := range more {
		cmd := f(app)
		if below, ok := strings.CutPrefix(cmd.Use, "blobs "); ok {
			cmd.Use = below
			blobs.AddCommand(cmd)
			continue
		}
		root.AddCommand(cmd)
	}
	root.AddCommand(a.Record(), a.Reading(), a.Resume(), a.Branch(), a.Rerun(), a.SpoolCommand(), blobs, a.Projects(),
		a.Runs(), a.Change(), a.Archive(), a.DeleteRun(), a.Views(), a.Compare(), a.Search(), a.Searches(),
		a.Data(), a.Lineage(), a.Predictions(), a.Confusion(), a.Open(),
		a.Show(), a.Curves(), a.Follow(), a.Output(), a.Stop(), a.Verdict(), a.StopRule(), a.Export(),
		a.ImportCommand(), a.Checkpoints(),
		a.Keep(), a.Pin(), a.Drop(), a.Sizes(), a.Restore(), a.Verify(), a.Evaluate(), a.Evaluations(), a.Files(),
		a.Match(), a.Catalogue(), a.Subscriptions(),
		a.DiffWeights(), a.Tensors(),
		a.SignIn(), a.SignOut(), a.WhoAmI(), a.Tokens(), a.Sessions(), a.People(), a.Teams(), a.Roles(), a.Audit(),
		a.Config(), a.version(), record.Drain())
	group(root)
	return root
}

// groups are what help lists the commands under, in the order of the work.
var groups = []struct{ id, title, commands string }{
	{"record", "Record:", "start serve record reading resume branch rerun search searches stop spool import"},
	{"look", "Look and compare:", "projects runs show follow curves output verdict compare open views export"},
	{"data", "Data, answers, evaluations:", "data predictions confusion evaluate verify evaluations files lineage"},
	{"keep", "Checkpoints and weights:", "checkpoints restore tensors match diff-weights keep pin drop storage blobs"},
	{"hand", "Hand on:", "catalogue subscriptions"},
	{"tidy", "Look after runs:", "change stop-rule archive delete"},
	{"people", "People and rights:", "sign-in sign-out whoami tokens sessions people teams roles audit"},
	{"run", "Run the service:", "config version backup restore-backup"},
}

func group(root *cobra.Command) {
	cobra.EnableCommandSorting = false
	all := map[string]*cobra.Command{}
	for _, cmd := range root.Commands() {
		all[cmd.Name()] = cmd
	}
	root.SetCompletionCommandGroupID("run")
	root.SetHelpCommandGroupID("run")
	for _, g := range groups {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, name := range strings.Fields(g.commands) {
			cmd := all[name]
			if cmd == nil { // one from elsewhere, which this tree is without
				continue
			}
			cmd.GroupID = g.id
			root.RemoveCommand(cmd)
			root.AddCommand(cmd)
		}
	}
}

// theLatest is the address of a project's latest run, or of a checkpoint of that.
var theLatest = regexp.MustCompile(`^([a-z][a-z0-9-]*)/last(@.*)?$`)

// namesRun are the options whose value is a run.
var namesRun = []string{"run", "disagree"}

// latest puts the number of the latest run where an argument, or an option, names it as such.
func (a commands) latest(cmd *cobra.Command, args []string) error {
	if n := cmd.ArgsLenAtDash(); n >= 0 && n < len(args) {
		args = args[:n]
	}
	for i, text := range args {
		var err error
		if args[i], err = a.numbered(cmd.Context(), text); err != nil {
			return err
		}
	}
	for _, name := range namesRun {
		f := cmd.Flag(name)
		if f == nil || !f.Changed || f.Value.Type() != "string" {
			continue
		}
		address, err := a.numbered(cmd.Context(), f.Value.String())
		if err == nil {
			err = f.Value.Set(address)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// numbered is an address with the number of the latest run in place of last.
func (a commands) numbered(ctx context.Context, text string) (string, error) {
	m := theLatest.FindStringSubmatch(text)
	if m == nil {
		return text, nil
	}
	page, err := client.Call(ctx, a.Client(), api.ListRuns, &api.RunsInput{
		ProjectInput: api.ProjectInput{Project: m[1]}, PageInput: api.PageInput{Limit: 1}})
	if api.Is(err, api.NotFound) {
		return text, nil // a model may have a standing of this name
	}
	if err != nil {
		return text, err
	}
	if len(page.Items) == 0 {
		return text, term.Exit{Code: term.ExitNotFound, Err: fmt.Errorf("project %s has no run yet", m[1])}
	}
	return page.Items[0].Address + m[2], nil
}

// Execute runs the command line and returns the exit code; what went wrong is on the error output.
func Execute(ctx context.Context, root *cobra.Command) int {
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	var e term.Exit
	if errors.As(err, &e) && e.Err == nil {
		return e.Code
	}
	fmt.Fprintln(os.Stderr, "kembrel:", plain.Text(err.Error()))
	return term.ExitCode(err)
}

func (a commands) version() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Print the versions of this command and of the service",
		Args: term.Arguments(), Example: "  kembrel version",
		RunE: func(cmd *cobra.Command, _ []string) error {
			fmt.Fprintf(a.Out, "kembrel %s, level %d of the API\n", a.Version, api.Level)
			ctx, cancel := context.WithTimeout(cmd.Context(), 2*time.Second)
			defer cancel()
			if h, err := client.Call(ctx, a.Client(), api.GetHealth, &struct{}{}); err == nil {
				fmt.Fprintf(a.Out, "service at %s: %s, level %d\n", a.Settings.Get("url"), h.Version, max(1, h.Level))
			}
			return nil
		}}
}
