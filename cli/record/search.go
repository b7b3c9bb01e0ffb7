package record

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/space"
	"kembrel/recorder"
)

const searchLong = `Try many settings of hyperparameters: each trial is a run, started under a recorder on this machine with values that the strategy picks from a
space (docs/search.md). Places in braces in the command take the values; the program is also given them when it connects, and they are recorded.
A search that was interrupted goes on with kembrel search resume, which leaves what has ended as it is.`

// Search makes the command search.
func (a *Commands) Search() *cobra.Command {
	cmd := &cobra.Command{Use: "search", Short: "Try many settings of hyperparameters", Long: searchLong,
		Example: `  kembrel search random --project vessels --space space.yaml --budget 12 --at-once 2 -- ./harbour train --lr {lr} --hidden {hidden}
  kembrel search grid --project vessels --space space.yaml -- ./harbour train --lr {lr} --hidden {hidden}
  kembrel search resume 1 --project vessels`,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(a.searchBy(space.Grid, "Try every setting of a space, in its order"),
		a.searchBy(space.Random, "Try settings picked at random from a space"), a.searchResume())
	return cmd
}

// searching is a search under way on this machine.
type searching struct {
	app    *Commands
	client *client.Client
	in     api.SearchInput
	atOnce int
	flags  []string // for each recorder
	titles string

	mutex   sync.Mutex
	began   time.Time
	ran     int           // trials ended here
	took    time.Duration // all together
	stopped error         // why no more are started
}

func (s *searching) add(f *pflag.FlagSet, r *recordFlags) {
	f.StringVar(&s.in.Project, "project", os.Getenv("KEMBREL_PROJECT"), "project of the runs [KEMBREL_PROJECT]")
	f.IntVar(&s.atOnce, "at-once", 1, "trials that run at the same time")
	r.add(f)
}

// check reads what all forms have in common. Flags of the recorder are passed on as they were given.
func (s *searching) check(cmd *cobra.Command) error {
	if err := api.CheckProjectKey(s.in.Project); err != nil {
		return term.Usage("say which project the runs belong to (--project): %w", err)
	}
	if s.atOnce < 1 || s.atOnce > 1000 {
		return term.Usage("--at-once %d: from 1 to 1000", s.atOnce)
	}
	of := pflag.NewFlagSet("", pflag.ContinueOnError)
	new(recordFlags).add(of)
	cmd.Flags().Visit(func(f *pflag.Flag) {
		values := []string{f.Value.String()}
		if list, many := f.Value.(pflag.SliceValue); many {
			values = list.GetSlice()
		}
		for _, v := range values {
			if of.Lookup(f.Name) != nil && f.Name != "quiet" { // the recorders of trials are quiet anyhow
				s.flags = append(s.flags, "--"+f.Name+"="+v)
			}
		}
	})
	return nil
}

// list prints the settings that a search would try.
func (a *Commands) list(output string, sp *space.Space, in *api.NewSearch) error {
	settings, err := sp.Pick(in.Body.Strategy, uint64(in.Body.Seed), in.Body.Budget)
	if err != nil {
		return err
	}
	var names []string
	for _, s := range settings {
		for _, v := range s {
			if !slices.Contains(names, v.Name) {
				names = append(names, v.Name)
			}
		}
	}
	l := term.List(append([]string{"trial#"}, names...)...)
	plain := make([]map[string]json.RawMessage, len(settings))
	for i, s := range settings {
		plain[i] = map[string]json.RawMessage{}
		for _, v := range s {
			plain[i][v.Name] = v.Value
		}
		row := []string{strconv.Itoa(i + 1)}
		for _, name := range names {
			row = append(row, string(s.Get(name)))
		}
		l.Add(row...)
	}
	if err := a.Print(output, l, plain); err != nil || output != "table" {
		return err
	}
	seed := ""
	if in.Body.Strategy == space.Random {
		seed = fmt.Sprintf("; --seed %d picks these again", in.Body.Seed)
	}
	fmt.Fprintf(a.Out, "Nothing was started (--dry-run)%s.\n", seed)
	return nil
}

func (a *Commands) searchBy(strategy, short string) *cobra.Command {
	s := &searching{app: a}
	var r recordFlags
	var file, output string
	var dry bool
	in := &api.NewSearch{}
	in.Body.Strategy = strategy
	cmd := &cobra.Command{Use: strategy + " --project PROJECT --space FILE -- COMMAND...",
		Short: short, Long: searchLong,
		Example: fmt.Sprintf("  kembrel search %s --project vessels --space space.yaml --budget 12 --at-once 2 -- ./harbour train --lr {lr} --hidden {hidden}", strategy),
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("say what to run, behind two hyphens: kembrel search %s --project vessels --space space.yaml -- ./harbour train --lr {lr}", strategy)
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := s.check(cmd); err != nil {
				return err
			}
			if !dry && cmd.Flags().Changed("output") {
				return term.Usage("--output is for --dry-run; kembrel searches %s --output %s shows what was tried",
					s.in.Project, output)
			}
			if file == "" {
				return term.Usage("say which space to search (--space FILE)")
			}
			text, err := os.ReadFile(file)
			if err != nil {
				return term.Exit{Code: term.ExitNotFound, Err: err}
			}
			sp, err := space.Parse(text)
			if err == nil {
				err = sp.CheckCommand(args)
			}
			if err == nil && !cmd.Flags().Changed("budget") && strategy == space.Grid {
				var all []space.Setting
				all, err = sp.Pick(strategy, 0, 10_000)
				in.Body.Budget = len(all)
			}
			if err != nil {
				return term.Usage("%s: %w", file, err)
			}
			if !cmd.Flags().Changed("seed") {
				in.Body.Seed = int64(rand.Uint32())
			}
			if dry {
				return a.list(output, sp, in)
			}
			if _, err := exec.LookPath(args[0]); err != nil {
				return term.Exit{Code: term.ExitNotFound, Err: err}
			}
			in.ProjectInput, in.Key = s.in.ProjectInput, uuid.NewString()
			in.Body.Space, in.Body.Command = string(text), args
			s.client = a.Client()
			made, err := client.Call(cmd.Context(), s.client, api.CreateSearch, in)
			if err != nil {
				return err
			}
			s.in.Number = made.Number
			return s.run(cmd.Context())
		}}
	s.add(cmd.Flags(), &r)
	f := cmd.Flags()
	f.StringVar(&file, "space", "", "file of the space (docs/search.md)")
	f.StringVar(&in.Body.Title, "title", "", "title of the search")
	f.BoolVar(&dry, "dry-run", false, "list the settings, and start nothing")
	a.OutputFlag(cmd, &output)
	if strategy == space.Grid {
		f.IntVar(&in.Body.Budget, "budget", 0, "trials at most (default all of the grid)")
	} else {
		f.IntVar(&in.Body.Budget, "budget", 12, "trials at most")
	}
	if strategy == space.Random {
		f.Int64Var(&in.Body.Seed, "seed", 0, "seed of chance; otherwise one is drawn, and recorded")
	}
	cmd.RegisterFlagCompletionFunc("project", a.Complete(false, false))
	return cmd
}

func (a *Commands) searchResume() *cobra.Command {
	s := &searching{app: a}
	var r recordFlags
	var trust place
	budget := 0
	cmd := &cobra.Command{Use: "resume NUMBER", Short: "Go on with a search: start what has not ended",
		Args: term.Arguments("NUMBER"),
		Long: `Go on with a search: trials that have not been started, were lost or were ended by a signal are started; those that ended otherwise are left, and so are
those that run. A search that somebody else made is shown and runs only when you say so; in scripts, --yes --from PERSON. --budget gives the search more trials than it had.`,
		Example: "  kembrel search resume 1 --project vessels\n  kembrel search resume 1 --project vessels --budget 24 --at-once 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[0])
			if err != nil || n < 1 {
				return term.Usage("%q is no number of a search; kembrel searches lists them", args[0])
			}
			if err := s.check(cmd); err != nil {
				return err
			}
			s.in.Number, s.client = n, a.Client()
			found, err := client.Call(cmd.Context(), s.client, api.GetSearch, &s.in)
			if err != nil {
				return err
			}
			what := fmt.Sprintf("search %d of %s", found.Number, found.Project)
			if err := a.trust(cmd.Context(), written{what: what, who: found.Who, command: found.Command,
				place: &trust}); err != nil {
				return err
			}
			if budget > 0 {
				edit := &api.SearchEdit{SearchInput: s.in}
				edit.Body.Budget = budget
				if _, err := client.Call(cmd.Context(), s.client, api.ChangeSearch, edit); err != nil {
					return err
				}
			}
			return s.run(cmd.Context())
		}}
	s.add(cmd.Flags(), &r)
	trust.addTrust(cmd.Flags())
	cmd.Flags().IntVar(&budget, "budget", 0, "trials at most, instead of as many as it had")
	cmd.RegisterFlagCompletionFunc("project", a.Complete(false, false))
	return cmd
}

// run starts the trials that are left, some at once, and ends when all have.
func (s *searching) run(ctx context.Context) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	found, err := client.Call(ctx, s.client, api.GetSearch, &s.in)
	if err != nil {
		return err
	}
	if found, err = s.sendLeftovers(ctx, found); err != nil {
		return err
	}
	var left []api.Trial
	elsewhere := 0
	for _, t := range found.Trials {
		switch {
		case t.State == "running":
			elsewhere++
		case !t.Done:
			left = append(left, t)
		}
	}
	chosen := found.Strategy
	if found.Strategy == space.Random {
		chosen += fmt.Sprintf(", seed %d", found.Seed)
	}
	fmt.Fprintf(s.app.Out, "search %d of %s, %s: %d trials, %d to run, %d at once\n", found.Number, found.Project,
		chosen, len(found.Trials), len(left), s.atOnce)
	if elsewhere > 0 {
		fmt.Fprintf(s.app.Out, "%d trials are running already and are left alone\n", elsewhere)
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	s.began = time.Now()
	s.titles = found.Title
	if s.titles == "" {
		s.titles = fmt.Sprintf("Search %d", found.Number)
	}
	next := make(chan api.Trial)
	var wait sync.WaitGroup
	for range min(s.atOnce, len(left)) {
		wait.Go(func() {
			for t := range next {
				s.trial(ctx, self, found, t, len(left))
			}
		})
	}
	for _, t := range left {
		s.mutex.Lock()
		over := s.stopped != nil || ctx.Err() != nil
		s.mutex.Unlock()
		if over {
			break
		}
		select {
		case next <- t:
		case <-ctx.Done():
		}
	}
	close(next)
	wait.Wait()
	if ctx.Err() != nil {
		fmt.Fprintf(s.app.Err, "kembrel: interrupted; kembrel search resume %d --project %s goes on\n",
			s.in.Number, s.in.Project)
		return term.Exit{Code: 130}
	}
	if s.stopped != nil {
		return s.stopped
	}
	found, err = client.Call(ctx, s.client, api.GetSearch, &s.in)
	if err != nil {
		return err
	}
	fmt.Fprintln(s.app.Out, found.Says)
	return nil
}

// sendLeftovers sends what recorders that were cut off left of trials that seem to run, and reads the search anew.
func (s *searching) sendLeftovers(ctx context.Context, found *api.Search) (*api.Search, error) {
	o := s.app.RecorderOptions()
	sent := false
	say := func(string, ...any) { sent = true }
	for _, t := range found.Trials {
		if t.State == "running" {
			if err := recorder.Leftovers(ctx, o, api.Address{Project: s.in.Project, Run: t.Run}.String(),
				say); err != nil {
				return nil, err
			}
		}
	}
	if !sent {
		return found, nil
	}
	return client.Call(ctx, s.client, api.GetSearch, &s.in)
}

// trial runs one trial to its end. An interrupt reaches it as well; it is then waited for.
func (s *searching) trial(ctx context.Context, self string, found *api.Search, t api.Trial, todo int) {
	setting := settingOf(found, t)
	args := append([]string{"record", "--quiet", "--project", s.in.Project, "--search", fmt.Sprint(s.in.Number),
		"--trial", fmt.Sprint(t.Number),
		"--title", fmt.Sprintf("%s, trial %d", s.titles, t.Number)}, s.flags...)
	for _, v := range setting {
		args = append(args, "--hyper", v.Name+"="+string(v.Value))
		if slices.ContainsFunc(found.Command,
			func(word string) bool { return strings.Contains(word, "{"+v.Name+"}") }) {
			args = append(args, "--filled", v.Name)
		}
	}
	var said bytes.Buffer
	cmd := exec.CommandContext(ctx, self, append(append(args, "--"), setting.Fill(found.Command)...)...)
	cmd.Stderr = &said
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGINT) }
	s.say("trial %d of %d: %s", t.Number, len(found.Trials), setting)
	began := time.Now()
	err := cmd.Run()
	now, failed := s.look(found, t)
	s.mutex.Lock()
	s.ran, s.took = s.ran+1, s.took+time.Since(began)
	left := time.Duration(todo-s.ran) * s.took / time.Duration(s.ran) / time.Duration(s.atOnce)
	s.mutex.Unlock()
	var end *exec.ExitError
	switch {
	case ctx.Err() != nil:
	case failed != nil:
		s.say("trial %d ended; the service does not answer just now: %v", t.Number, failed)
	case now.Run == t.Run && err != nil: // no run came of it: nothing will of the others
		s.mutex.Lock()
		s.stopped = fmt.Errorf("trial %d could not be started: %w: %s", t.Number, err, strings.TrimSpace(said.String()))
		s.mutex.Unlock()
	default:
		text := fmt.Sprintf("trial %d: %s/%d %s in %s", t.Number, s.in.Project, now.Run, now.State,
			time.Since(began).Round(time.Second/10))
		if now.Best != nil {
			text += ", best " + term.Number(float64(*now.Best))
		}
		if errors.As(err, &end) {
			text += fmt.Sprintf(", exit code %d", end.ExitCode())
		}
		if todo > s.ran {
			text += fmt.Sprintf("; %d left, about %s", todo-s.ran, left.Round(time.Second))
		}
		s.say("%s", text)
	}
}

// look reads what became of a trial.
func (s *searching) look(found *api.Search, t api.Trial) (api.Trial, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	now, err := client.Call(ctx, s.client, api.GetSearch, &s.in)
	if err != nil || t.Number > len(now.Trials) {
		return t, err
	}
	return now.Trials[t.Number-1], nil
}

func (s *searching) say(format string, args ...any) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	fmt.Fprintf(s.app.Out, format+"\n", args...)
}

// settingOf is a trial's setting, in the order of the space.
func settingOf(found *api.Search, t api.Trial) space.Setting {
	var out space.Setting
	sp, err := space.Parse([]byte(found.Space))
	if err != nil {
		return nil
	}
	for _, name := range sp.Names() {
		if v, ok := t.Setting[name]; ok {
			out = append(out, space.Value{Name: name, Value: v})
		}
	}
	return out
}
