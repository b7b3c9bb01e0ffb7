package term

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/plain"
	"kembrel/core/verdict"
)

func app() (*App, *bytes.Buffer) {
	out := &bytes.Buffer{}
	return &App{Settings: NewSettings(), In: strings.NewReader(""), Out: &plain.Writer{To: out},
		Err: &plain.Writer{To: out}}, out
}

func listing() Listing {
	l := List("run", "title", "best#")
	l.Empty = "there are no runs"
	l.Shorten = "title"
	l.Add("vessels/1", "a wide net \x1b[31mred\nline", "0.4012")
	l.Add("vessels/12", "=1+1", "NaN")
	return l
}

func TestPrint(t *testing.T) {
	a, out := app()
	require.NoError(t, a.Print("table", listing(), nil))
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 4, "a text with a line break is one line: %q", out)
	require.NotContains(t, out.String(), "\x1b", "nobody's text commands the terminal")
	require.True(t, strings.HasSuffix(lines[2], "0.4012"))
	require.True(t, strings.HasSuffix(lines[3], "   NaN"), "figures stand right: %q", lines[3])
	out.Reset()
	require.NoError(t, a.Print("csv", listing(), nil))
	require.Contains(t, out.String(), "'=1+1", "no spreadsheet takes it for a formula")
	require.Contains(t, out.String(), ",0.4012\n")
	out.Reset()
	require.NoError(t, a.Print("json", listing(), map[string]any{"best": api.Float(math.NaN())}))
	require.Contains(t, out.String(), `"best": "NaN"`)
	out.Reset()
	require.NoError(t, a.Print("table", Listing{Empty: "there are no runs"}, nil))
	require.Equal(t, "there are no runs\n", out.String())
	require.Equal(t, ExitUsage, ExitCode(a.Print("xml", listing(), nil)))
}

func TestFitsTheTerminal(t *testing.T) {
	widest := func(l Listing) (most int) {
		for _, line := range strings.Split(l.Render(), "\n") {
			most = max(most, len([]rune(line)))
		}
		return most
	}
	whole := List("run", "title", "best#", "who", "note")
	whole.Shorten, whole.Spare = "title", []string{"who", "note"}
	whole.Add("vessels/1", strings.Repeat("wide net ü", 20), "0.4", "ines", "the first with the new clips")
	l, left := whole.Fit(60)
	require.LessOrEqual(t, widest(l), 60)
	require.Equal(t, []string{"who", "note"}, left)
	require.Equal(t, []string{"run", "title", "best"}, l.Columns)
	require.True(t, l.Numeric[2])
	require.True(t, strings.HasSuffix(l.Rows[0][1], "…"))
	require.Equal(t, "ines", whole.Rows[0][3], "the whole stays whole")
	l, left = whole.Fit(1000)
	require.Empty(t, left)
	require.Equal(t, whole, l)

	l = List("run", "says", "why", "loss#")
	l.Add(strings.Repeat("x", 70), "one two three four five", strings.Repeat("the boiler is hot ", 10), "0.4213")
	l, _ = l.Fit(60)
	require.LessOrEqual(t, widest(l), 60, "what may not be cut is wrapped:\n%s", l.Render())
	text := strings.Join(strings.Fields(l.Render()), "")
	require.Equal(t, 70, strings.Count(text, "x"), "nothing is lost")
	require.Equal(t, 10, strings.Count(text, "boiler"))
	require.Equal(t, "ab…", Fit("abcdef", 3))
	require.Equal(t, "abc", Fit("abc", 3))
	require.Equal(t, []string{"says: one two", "      three", "      four …"},
		Wrap("says: ", "one two three four five six seven", 14, 3))
}

func TestWords(t *testing.T) {
	figure := &api.Figure{Value: 0.123456, Epoch: 12, Step: 480}
	bare := &api.Figure{Value: 0.5, Epoch: api.Float(math.NaN()), Step: 480}
	ended := time.Now()
	for _, c := range [][2]string{{Figure(figure), "0.1235"}, {Figure(nil), ""}, {At(figure), "@e12"},
		{At(bare), "@s480"},
		{At(nil), ""}, {Epoch(api.Float(math.NaN())), ""}, {Epoch(3), "3"}, {EpochsText(1), "1 epoch"},
		{EpochsText(2.5), "2.5 epochs"}, {Seconds(math.NaN()), ""}, {Seconds(61.24), "1m1.2s"},
		{Took(ended.Add(-90*time.Second), &ended), "1m30s"}, {Took(ended, nil), ""},
		{TookRun(api.Run{Took: 9}), ""}, {TookRun(api.Run{Took: 9, Ended: &ended}), "9s"},
		{JoinNumbers([]int{3, 1}), "3,1"}, {OrText("", "none"), "none"}, {OrText("a", "none"), "a"},
		{HyperText(json.RawMessage(`"adam"`)), "adam"}, {HyperText(json.RawMessage(`[64, 32]`)), "[64,32]"},
		{HyperText(json.RawMessage(`0.10`)), "0.10"}, {Indent("a\nb"), "  a\n  b"},
		{Patience(api.StopState{Left: 3}), "; 3 epochs of patience left"}, {Patience(api.StopState{
			Left: api.Float(math.NaN())}), ""}, {Patience(api.StopState{Stopped: &api.Stopped{At: *figure}}),
			"; it said stop @e12"}} {
		require.Equal(t, c[1], c[0])
	}
	require.Equal(t, `train --note 'it'\''s low tide' '' --lr 0.1`,
		Quoted([]string{"train", "--note", "it's low tide", "", "--lr", "0.1"}))
	gone := time.Date(2026, 11, 3, 4, 5, 6, 0, time.Local)
	require.Equal(t, "stays", FateOf(&api.Checkpoint{}))
	require.Equal(t, "pinned", FateOf(&api.Checkpoint{Pinned: true}))
	require.Equal(t, "dropped 2026-11-03 04:05:06 as Ines said", FateOf(&api.Checkpoint{Dropped: &gone,
		WhyDeleted: "as Ines said"}))
	require.Equal(t, "to be deleted 2026-11-03 04:05:06, by a rule, which frees 2.00 kB",
		FateOf(&api.Checkpoint{DeleteAt: &gone, WhyDeleted: "by a rule", Frees: 2000}))
	require.Equal(t, []string{"best", "pinned", "dropped"}, MarksOf(api.Checkpoint{Best: true, Pinned: true,
		Dropped: &gone, DeleteAt: &gone}))
	text, err := json.Marshal(OrEmpty[int](nil))
	require.NoError(t, err)
	require.Equal(t, "[]", string(text))
}

func TestAddresses(t *testing.T) {
	for _, c := range []struct {
		text    string
		run, at bool
		says    string
	}{{"vessels", false, false, ""}, {"vessels/3", true, false, ""}, {"vessels/3@best", true, true, ""},
		{"vessels", true, false, "a run is wanted, such as vessels/1"},
		{"vessels/3", false, false, "a project is wanted, such as vessels"},
		{"vessels/3", true, true, "a checkpoint is wanted, such as vessels/3@best"},
		{"vessels/3@e2", true, false, "a run is wanted, such as vessels/3"}, {"ves sels/3", true, false, "ves sels"}} {
		_, err := Address(c.text, c.run, c.at)
		if c.says == "" {
			require.NoError(t, err, c.text)
			continue
		}
		require.ErrorContains(t, err, c.says)
		require.Equal(t, ExitUsage, ExitCode(err))
	}
	project, numbers, err := SameProject([]string{"vessels/3", "12"}, "")
	require.NoError(t, err)
	require.Equal(t, "vessels", project)
	require.Equal(t, []int{3, 12}, numbers)
	for says, args := range map[string][]string{"run 3 of which project": {"3", "vessels/1"},
		"not a run of vessels": {"vessels/1", "quays/1"}, "a run is wanted": {"vessels"}} {
		_, _, err := SameProject(args, "")
		require.ErrorContains(t, err, says)
	}
}

func TestExitCodes(t *testing.T) {
	for code, errs := range map[int][]error{
		ExitNotFound: {api.Fail(api.NotFound, "x"), api.Fail(api.Gone, "x")},
		ExitDenied:   {api.Fail(api.SignedOut, "x"), api.Fail(api.Denied, "x")},
		ExitAway:     {client.ErrAway, api.Fail(api.Unavailable, "x"), fmt.Errorf("sent: %w", client.ErrAway)},
		ExitExists:   {api.Fail(api.Conflict, "x")},
		ExitUsage:    {Usage("x"), api.Fail(api.Invalid, "x"), errors.New("unknown command \"up\"")},
		ExitFailed:   {errors.New("x"), api.Fail(api.Internal, "x")},
		ExitDiffers:  {Differs(errors.New("x"))},
	} {
		for _, err := range errs {
			require.Equal(t, code, ExitCode(err), err)
		}
	}
}

// A setting is the flag's, else the environment's, else the file's, else as usual; and says which.
func TestSettings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "config.toml")
	t.Setenv("KEMBREL_CONFIG", file)
	load := func(args ...string) (*Settings, error) {
		s, flags := NewSettings(), pflag.NewFlagSet("x", pflag.ContinueOnError)
		s.Add(flags, "url", "listen")
		require.NoError(t, flags.Parse(args))
		return s, s.Load(flags)
	}
	s, err := load()
	require.NoError(t, err, "without a file")
	require.Equal(t, "http://127.0.0.1:7420", s.Get("url"))
	require.NoError(t, os.WriteFile(file, []byte("url = \"http://file/\"\nlisten = \"127.0.0.1:9\"\n"), 0o600))
	s, err = load()
	require.NoError(t, err)
	require.Equal(t, "http://file", s.Get("url"), "without a slash at its end")
	require.Equal(t, file, s.find("url").from)
	t.Setenv("KEMBREL_URL", "http://environment")
	s, err = load()
	require.NoError(t, err)
	require.Equal(t, "http://environment", s.Get("url"))
	s, err = load("--url", "http://flag")
	require.NoError(t, err)
	require.Equal(t, "http://flag", s.Get("url"))
	require.Equal(t, "--url", s.find("url").from)
	require.Equal(t, "127.0.0.1:9", s.Get("listen"))
	for says, text := range map[string]string{"there is no setting \"ulr\"": "ulr = 1", "config.toml": "url = "} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := load()
		require.ErrorContains(t, err, says)
		require.Equal(t, ExitUsage, ExitCode(err))
	}
}

func TestRuleFlags(t *testing.T) {
	given := func(args ...string) (*api.StopRule, error) {
		var r RuleFlags
		cmd := &cobra.Command{SilenceErrors: true, SilenceUsage: true, RunE: func(*cobra.Command, []string) error {
			return nil
		}}
		r.Add(cmd.Flags(), "stop-")
		if err := cmd.ParseFlags(args); err != nil {
			return nil, err
		}
		return r.Rule(cmd)
	}
	rule, err := given()
	require.NoError(t, err)
	require.Nil(t, rule, "none was given")
	rule, err = given("--stop-patience", "5", "--stop-objective", "accuracy.val higher")
	require.NoError(t, err)
	require.Equal(t, verdict.Objective{Curve: "accuracy.val", Direction: verdict.Higher}, rule.Objective)
	for says, args := range map[string][]string{"needs a direction": {"--stop-objective", "accuracy.val"},
		"give a patience": {"--stop-margin", "1"}, "a number from 0 up": {"--stop-patience", "-3"}} {
		_, err := given(args...)
		require.ErrorContains(t, err, says)
	}
}

// Without a terminal nobody is asked, and nothing is done.
func TestConfirm(t *testing.T) {
	a, _ := app()
	yes, err := a.Confirm("Delete it?")
	require.False(t, yes)
	require.ErrorContains(t, err, "say --yes")
}
