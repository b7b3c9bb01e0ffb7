package cli

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"kembrel/cli/term"
)

func each(cmd *cobra.Command, do func(cmd *cobra.Command)) {
	do(cmd)
	for _, c := range cmd.Commands() {
		each(c, do)
	}
}

// What was called otherwise before, or is no plain word.
var gone = regexp.MustCompile(`\b(whence|foretell|foretold|reckon|errs?|truth value|greatest|sizes|present runs|` +
	`made with|take up|--stay|--beside|--take-up|--obey-stop|--only-use|--set-aside|--stand|--back|--off|` +
	`kembrel up)\b`)

// Every command says what it does, shows how it is called, and speaks in today's words.
func TestHelp(t *testing.T) {
	leaves := 0
	each(New("v0"), func(cmd *cobra.Command) {
		path := cmd.CommandPath()
		if cmd.Name() == "help" || cmd.Name() == "completion" || cmd.Hidden || strings.Contains(path, " completion") {
			return
		}
		require.NotEmpty(t, cmd.Short, path)
		require.False(t, strings.HasSuffix(cmd.Short, "."), "%s: %s", path, cmd.Short)
		text := cmd.Short + "\n" + cmd.Long + "\n" + cmd.Example + "\n" + cmd.LocalFlags().FlagUsages()
		require.Empty(t, gone.FindString(text), path)
		if !cmd.Runnable() {
			return
		}
		leaves++
		require.Contains(t, cmd.Example, path, "%s shows how it is called", path)
		for _, line := range strings.Split(cmd.Example, "\n") {
			require.True(t, strings.HasPrefix(line, "  "), "%s: %q", path, line)
		}
	})
	require.Greater(t, leaves, 50)
}

// A flag or an argument that is not there is said with where to look, and is the caller's mistake.
func TestUsage(t *testing.T) {
	each(New("v0"), func(cmd *cobra.Command) {
		if !cmd.Runnable() || cmd.Hidden || cmd.DisableFlagParsing || cmd.Name() == "help" ||
			strings.Contains(cmd.CommandPath(), " completion") {
			return
		}
		err := run(t, nil, append(strings.Fields(cmd.CommandPath())[1:], "--weather=fog")...)
		require.ErrorContains(t, err, "--help", cmd.CommandPath())
		require.Equal(t, term.ExitUsage, term.ExitCode(err), cmd.CommandPath())
	})
}

// run runs a command line; what it prints goes to out.
func run(t *testing.T, out *bytes.Buffer, args ...string) error {
	t.Helper()
	root := New("v0")
	if out == nil {
		out = &bytes.Buffer{}
	}
	root.SetArgs(args)
	stdout := os.Stdout
	reader, writer, err := os.Pipe()
	require.NoError(t, err)
	os.Stdout = writer
	defer func() { os.Stdout = stdout }()
	root = New("v0") // takes the output of now
	root.SetArgs(args)
	done := make(chan error, 1)
	go func() {
		_, err := io.Copy(out, reader)
		done <- err
	}()
	failed := root.ExecuteContext(t.Context())
	writer.Close()
	require.NoError(t, <-done)
	return failed
}

// What only reads says of a service that is away, refuses, or is none, what it is.
func TestServiceThatIsIll(t *testing.T) {
	t.Setenv("KEMBREL_CREDENTIALS", t.TempDir()+"/c.json")
	t.Setenv("KEMBREL_TOKEN", "")
	answer := http.NotFound
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { answer(w, r) }))
	defer server.Close()
	reading := [][]string{{"projects"}, {"runs", "vessels"}, {"show", "vessels/1"}, {"checkpoints", "vessels/1"},
		{"curves", "vessels/1"}, {"compare", "vessels/1", "vessels/2"}, {"searches", "vessels"}, {"verdict", "vessels/1"},
		{"stop-rule", "vessels"}, {"keep", "vessels"}, {"storage"}, {"people"}, {"teams"}, {"roles"}, {"sessions"},
		{"tokens"}, {"audit"}, {"whoami"}, {"views", "vessels"}, {"tensors", "vessels/1@best"}}
	for _, args := range reading {
		answer = http.NotFound
		err := run(t, nil, append(args, "--url", server.URL)...)
		require.ErrorContains(t, err, "is it a Kembrel service?", args)
		answer = func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusUnauthorized)
			io.WriteString(w, `{"type":"urn:kembrel:problem:signed-out","status":401,"detail":"sign in first"}`)
		}
		err = run(t, nil, append(args, "--url", server.URL)...)
		require.Equal(t, term.ExitDenied, term.ExitCode(err), "%v: %v", args, err)
		err = run(t, nil, append(args, "--url", "http://127.0.0.1:1")...)
		require.Equal(t, term.ExitAway, term.ExitCode(err), "%v: %v", args, err)
		require.ErrorContains(t, err, "does not answer")
	}
}

// What a service says is printed as text, whatever is in it.
func TestProjectsAreListed(t *testing.T) {
	t.Setenv("KEMBREL_CREDENTIALS", t.TempDir()+"/c.json")
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, `{"items":[{"key":"vessels","title":"Vessels \u001b[2J by sound","runs":3,"running":1,
			"objective":{"curve":"loss.val","direction":"lower"},"best_run":2,
			"best":{"curve":"loss.val","value":0.25,"epoch":4,"step":160}}]}`)
	}))
	defer server.Close()
	out := &bytes.Buffer{}
	require.NoError(t, run(t, out, "projects", "--url", server.URL))
	require.Contains(t, out.String(), "loss.val lower")
	require.Contains(t, out.String(), "0.25")
	require.NotContains(t, out.String(), "\x1b")
	out.Reset()
	require.NoError(t, run(t, out, "projects", "--url", server.URL, "--output", "csv"))
	require.Contains(t, out.String(), "vessels,")
	err := run(t, out, "projects", "--url", server.URL, "--output", "xml")
	var exit term.Exit
	require.True(t, errors.As(err, &exit))
}
