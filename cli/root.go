package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
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

Addresses name things:  vessels  vessels/17  vessels/17@e12  vessels/17@s4800  vessels/17@best  vessels/17@last`,
		Example: `  kembrel start
  kembrel record --project vessels -- ./harbour train
  kembrel follow vessels/3
  kembrel restore vessels/3@best --into model`,
		SilenceErrors:     true,
		SilenceUsage:      true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return a.Settings.Load(cmd.Flags()) },
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
		a.Show(), a.Curves(), a.Follow(), a.Verdict(), a.StopRule(), a.Export(), a.ImportCommand(), a.Checkpoints(),
		a.Keep(), a.Pin(), a.Drop(), a.Sizes(), a.Restore(), a.Verify(), a.Evaluate(), a.Evaluations(), a.Files(),
		a.Match(), a.Catalogue(), a.Subscriptions(),
		a.DiffWeights(), a.Tensors(),
		a.SignIn(), a.SignOut(), a.WhoAmI(), a.Tokens(), a.Sessions(), a.People(), a.Teams(), a.Roles(), a.Audit(),
		a.Config(), a.version(), record.Drain())
	return root
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
