package term

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
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

// Exit is an error that carries an exit code; without text nothing is printed.
type Exit struct {
	Code int
	Err  error
}

func (e Exit) Error() string { return e.Err.Error() }

func (e Exit) Unwrap() error { return e.Err }

// Usage marks an error as one of usage.
func Usage(format string, args ...any) error {
	return Exit{ExitUsage, fmt.Errorf(format, args...)}
}

// Differs marks an error as one of content that is not what it should be.
func Differs(err error) error { return Exit{ExitDiffers, err} }

// App is what the commands share. Out and Err make what is printed harmless (screen.go).
type App struct {
	Settings *Settings
	Version  string
	In       io.Reader
	Out, Err io.Writer
	wide     bool // tables are not fitted to the terminal
}

// ExitCode is the exit code of an error, as docs/commands.md lists them.
func ExitCode(err error) int {
	var e Exit
	if errors.As(err, &e) {
		return e.Code
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

// Client makes a client for the service of the settings.
func (a *App) Client() *client.Client { return Connect(a.Settings.Get("url")) }

// Connect makes a client for a service with this user's credentials of the moment.
func Connect(service string) *client.Client {
	credential, _ := client.LoadCredential(service) // without one the service says what to do
	return client.New(service, credential.Token)
}

// Address parses an argument that must name a run, or a checkpoint where at is set.
func Address(text string, run, at bool) (api.Address, error) {
	a, err := api.ParseAddress(text)
	switch {
	case err != nil:
		return a, Usage("%w", err)
	case run && a.Run == 0:
		return a, Usage("address %q names a project; a run is wanted, such as %s/1", text, a.Project)
	case !run && a.Run != 0:
		return a, Usage("address %q names a run; a project is wanted, such as %s", text, a.Project)
	case at && a.At.Kind == api.AtNone:
		return a, Usage("address %q names a run; a checkpoint is wanted, such as %s@best", text, text)
	case !at && a.At.Kind != api.AtNone:
		return a, Usage("address %q names a checkpoint; a run is wanted, such as %s/%d", text, a.Project, a.Run)
	}
	return a, nil
}

// ProjectOf is the project of an address, as the API takes it.
func ProjectOf(a api.Address) api.ProjectInput { return api.ProjectInput{Project: a.Project} }

// RunOf is the run of an address, as the API takes it.
func RunOf(a api.Address) api.RunInput {
	return api.RunInput{ProjectInput: ProjectOf(a), Number: a.Run}
}

// Arguments is cobra.ExactArgs with our exit code and wording.
func Arguments(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return Usage("%s takes %s; see %s --help", cmd.CommandPath(),
				OrText(strings.Join(names, " "), "no argument"), cmd.CommandPath())
		}
		return nil
	}
}

// ExitDiffers is the exit code where two things that were to be the same are not.
const ExitDiffers = 7
