package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/plain"
)

// The exit codes, as docs/commands.md lists them. kembrel record ends with its program's own.
const (
	ExitFailed   = 1
	ExitUsage    = 2
	ExitNotFound = 3
	ExitDenied   = 4
	ExitAway     = 5
	ExitExists   = 6
)

// exit is an error that carries an exit code; without text nothing is printed.
type exit struct {
	code int
	err  error
}

func (e exit) Error() string { return e.err.Error() }
func (e exit) Unwrap() error { return e.err }

// usage marks an error as one of usage.
func usage(format string, args ...any) error {
	return exit{ExitUsage, fmt.Errorf(format, args...)}
}

// Usage is usage for commands from elsewhere.
func Usage(format string, args ...any) error { return usage(format, args...) }

// Differs marks an error as one of content that is not what it should be.
func Differs(err error) error { return exit{ExitDiffers, err} }

// App is what the commands share. Out and Err make what is printed harmless (screen.go).
type App struct {
	Settings *Settings
	Version  string
	In       io.Reader
	Out, Err io.Writer
}

// New makes the command tree. more are commands from elsewhere, made with the same App; one whose Use begins with "blobs " belongs below blobs.
func New(version string, more ...func(*App) *cobra.Command) *cobra.Command {
	a := &App{Settings: NewSettings(), Version: version, In: os.Stdin, Out: &plain.Writer{To: os.Stdout}, Err: &plain.Writer{To: os.Stderr}}
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
		return usage("%w; see %s --help", err, cmd.CommandPath())
	})
	a.Settings.Add(root.PersistentFlags(), "url")
	blobs := a.blobs()
	for _, f := range more {
		cmd := f(a)
		if below, ok := strings.CutPrefix(cmd.Use, "blobs "); ok {
			cmd.Use = below
			blobs.AddCommand(cmd)
			continue
		}
		root.AddCommand(cmd)
	}
	root.AddCommand(a.record(), a.reading(), a.resume(), a.branch(), a.rerun(), a.spoolCommand(), blobs, a.projects(), a.runs(), a.change(), a.archive(), a.deleteRun(), a.views(), a.compare(), a.search(), a.searches(), a.open(), a.show(), a.curves(), a.follow(), a.verdict(), a.stopRule(), a.export(), a.importCommand(), a.checkpoints(), a.keep(), a.pin(), a.drop(), a.sizes(), a.restore(), a.verify(), a.match(), a.diffWeights(), a.tensors(),
		a.signIn(), a.tokens(), a.config(), a.version(), drain())
	return root
}

// Execute runs the command line and returns the exit code; what went wrong is on the error output.
func Execute(ctx context.Context, root *cobra.Command) int {
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	var e exit
	if errors.As(err, &e) && e.err == nil {
		return e.code
	}
	fmt.Fprintln(os.Stderr, "kembrel:", plain.Text(err.Error()))
	return exitCode(err)
}

func exitCode(err error) int {
	var e exit
	if errors.As(err, &e) {
		return e.code
	}
	switch {
	case api.Is(err, api.NotFound), api.Is(err, api.Gone):
		return ExitNotFound
	case api.Is(err, api.SignedOut), api.Is(err, api.Denied):
		return ExitDenied
	case errors.Is(err, client.ErrAway), api.Is(err, api.Unavailable):
		return ExitAway
	case api.Is(err, api.Conflict):
		return ExitExists
	case api.Is(err, api.Invalid), api.Is(err, api.Malformed):
		return ExitUsage
	case strings.HasPrefix(err.Error(), "unknown command"):
		return ExitUsage
	}
	return ExitFailed
}

// client makes a client for the service of the settings.
func (a *App) client() *client.Client { return connect(a.Settings.Get("url")) }

// connect makes a client for a service with this user's credentials of the moment.
func connect(service string) *client.Client {
	credential, _ := client.LoadCredential(service) // without one the service says what to do
	return client.New(service, credential.Token)
}

// address parses an argument that must name a run, or a checkpoint where at is set.
func address(text string, run, at bool) (api.Address, error) {
	a, err := api.ParseAddress(text)
	switch {
	case err != nil:
		return a, usage("%w", err)
	case run && a.Run == 0:
		return a, usage("address %q names a project; a run is wanted, such as %s/1", text, a.Project)
	case !run && a.Run != 0:
		return a, usage("address %q names a run; a project is wanted, such as %s", text, a.Project)
	case at && a.At.Kind == api.AtNone:
		return a, usage("address %q names a run; a checkpoint is wanted, such as %s@best", text, text)
	case !at && a.At.Kind != api.AtNone:
		return a, usage("address %q names a checkpoint; a run is wanted, such as %s/%d", text, a.Project, a.Run)
	}
	return a, nil
}

func projectOf(a api.Address) api.ProjectInput { return api.ProjectInput{Project: a.Project} }

func runOf(a api.Address) api.RunInput {
	return api.RunInput{ProjectInput: projectOf(a), Number: a.Run}
}

// arguments is cobra.ExactArgs with our exit code and wording.
func arguments(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return usage("%s takes %d argument(s): %s; see %s --help", cmd.CommandPath(), len(names), strings.Join(names, " "), cmd.CommandPath())
		}
		return nil
	}
}

func (a *App) version() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Print the versions of this command and of the service", Args: arguments(), Example: "  kembrel version",
		RunE: func(cmd *cobra.Command, _ []string) error {
			fmt.Fprintf(a.Out, "kembrel %s, level %d of the API\n", a.Version, api.Level)
			ctx, cancel := context.WithTimeout(cmd.Context(), 2*time.Second)
			defer cancel()
			if h, err := client.Call(ctx, a.client(), api.GetHealth, &struct{}{}); err == nil {
				fmt.Fprintf(a.Out, "service at %s: %s, level %d\n", a.Settings.Get("url"), h.Version, max(1, h.Level))
			}
			return nil
		}}
}
