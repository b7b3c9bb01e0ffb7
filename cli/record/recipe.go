package record

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/hyper"
	"kembrel/core/plain"
	"kembrel/recorder"
)

// place is where and how a program that is run again is started.
type place struct {
	folder, checkout, repository string

	yes   bool
	from  string   // whose recipe may be run without asking
	named []string // recorded environment variables to set beside those that are always
}

func (p *place) add(f *pflag.FlagSet) {
	f.StringVar(&p.folder, "folder", "", "folder to start the program in; otherwise the recorded one")
	f.StringVar(&p.checkout, "checkout", "",
		"create this folder as a working tree of the recorded commit and changes, and start the program there")
	f.StringVar(&p.repository, "repository", "",
		"with --checkout: folder of the repository; otherwise the recorded one, or this one")
	f.StringArrayVar(&p.named, "env", nil,
		"a recorded environment variable to set as it was; may be given many times. Those of the locale, threads, devices and PYTHONHASHSEED are set anyway")
	p.addTrust(f)
}

func (p *place) addTrust(f *pflag.FlagSet) {
	f.BoolVar(&p.yes, "yes", false, "with --from: run what that person recorded without asking, for scripts")
	f.StringVar(&p.from, "from", "", "with --yes: the person whose recipe may be run")
}

// written is what somebody recorded that would now run on this machine.
type written struct {
	what, who string // the run or search, and who recorded it
	command   []string
	own       bool // the command is given here, not recorded
	recipe    api.Recipe
	place     *place
}

// trust has a person look at what somebody else wrote before it runs as theirs. Their own runs without a question.
func (a *Commands) trust(ctx context.Context, w written) error {
	p := w.place
	if p.yes != (p.from != "") {
		return term.Usage("--yes and --from PERSON go together: they name whose recipe may be run without asking")
	}
	if !w.own && w.recipe.WithheldFrom("command") {
		return term.Usage("the command of %s had a secret taken out when it was recorded (%s); give it whole: -- COMMAND", w.what, plain.Line(term.Quoted(w.command)))
	}
	foreign := !w.own || p.checkout != ""
	if !foreign {
		return nil
	}
	me, err := client.Call(ctx, a.Client(), api.GetMe, &struct{}{})
	if err != nil {
		return err
	}
	if w.who == me.Name {
		return nil
	}
	if p.yes {
		if p.from != w.who {
			return term.Exit{Code: term.ExitDenied, Err: fmt.Errorf("%s was recorded by %s, not by %s; nothing is run",
				w.what, plain.Line(w.who), plain.Line(p.from))}
		}
		return nil
	}
	fmt.Fprintf(a.Err, "%s was recorded by %s. This would run on this machine, as you:\n", w.what, plain.Line(w.who))
	row := func(name, text string) {
		if text != "" {
			fmt.Fprintf(a.Err, "  %-12s %s\n", name, plain.Line(text))
		}
	}
	row("command", term.Quoted(w.command))
	switch {
	case p.checkout != "":
		row("code", fmt.Sprintf("commit %.12s, checked out into %s", w.recipe.Commit, p.checkout))
		if w.recipe.Changes != "" {
			row("", "")
			row("changes", fmt.Sprintf("a patch of %d lines on that commit (kembrel show %s -o json has it)",
				strings.Count(w.recipe.Changes, "\n"), w.what))
		}
	case p.folder == "":
		row("folder", w.recipe.Folder)
	}
	row("program", w.recipe.Program)
	for _, name := range p.variables(w.recipe, w.own) {
		row("environment", name+"="+w.recipe.Environment[name])
	}
	if !term.IsTerminal(a.In) {
		return term.Exit{Code: term.ExitDenied,
			Err: fmt.Errorf("nothing is run: look at the above and say so at a terminal, or in a script with --yes --from %s", term.Quoted([]string{w.who}))}
	}
	if yes, err := a.Confirm("Run it?"); err != nil || !yes {
		return cmp.Or(err, error(term.Exit{Code: term.ExitDenied, Err: errors.New("nothing is run")}))
	}
	return nil
}

// harmless are the recorded environment variables that are set again: they change how the same program computes and
// speaks, not what is run.
var harmless = []string{"LANG", "LANGUAGE", "TZ", "PYTHONHASHSEED", "CUDA_VISIBLE_DEVICES", "CUDA_DEVICE_ORDER",
	"OMP_NUM_THREADS", "MKL_NUM_THREADS", "OPENBLAS_NUM_THREADS", "GOMAXPROCS"}

// variables are those of a recipe that are set. None are with a command of one's own.
func (p *place) variables(r api.Recipe, own bool) []string {
	if own {
		return nil
	}
	return slices.DeleteFunc(slices.Sorted(maps.Keys(r.Environment)), func(name string) bool {
		return !slices.Contains(harmless, name) && !strings.HasPrefix(name, "LC_") && !slices.Contains(p.named, name)
	})
}

// enter goes to the folder and sets the recorded environment variables.
func (p *place) enter(ctx context.Context, r api.Recipe, own bool) error {
	folder := p.folder
	switch {
	case p.checkout != "":
		from := p.repository
		if from == "" {
			if from = r.Folder; !isFolder(from) {
				from = "."
			}
		}
		var err error
		if folder, err = recorder.CheckOut(ctx, r, from, p.checkout); err != nil {
			return err
		}
	case folder == "" && own && !isFolder(r.Folder):
		folder = "."
	case folder == "":
		if folder = r.Folder; !isFolder(folder) {
			return term.Exit{Code: term.ExitNotFound,
				Err: fmt.Errorf("the run's folder %s is not on this host; say where to start the program (--folder), or have its code checked out (--checkout NEW-FOLDER --repository FOLDER)", folder)}
		}
	}
	for _, name := range p.variables(r, own) {
		if err := os.Setenv(name, r.Environment[name]); err != nil {
			return err
		}
	}
	if err := os.Chdir(folder); err != nil {
		return term.Exit{Code: term.ExitNotFound, Err: err}
	}
	return nil
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// ask puts asked hyperparameters into a recorded command. What stands there is substituted; of the rest the program may
// take what the run had, and what it had not nobody would take.
func ask(from *api.RunDetail, asked map[string]json.RawMessage,
	command []string) (out []string, substituted map[string]json.RawMessage, err error) {
	substituted = map[string]json.RawMessage{}
	out = command
	var unknown []string
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		var found bool
		if out, found = hyper.Substitute(out, name, from.Hyper[name], asked[name]); found {
			substituted[name] = asked[name]
		} else if _, had := from.Hyper[name]; !had {
			unknown = append(unknown, name)
		}
	}
	if len(unknown) > 0 {
		had := strings.Join(slices.Sorted(maps.Keys(from.Hyper)), ", ")
		if had == "" {
			had = "none"
		}
		return nil, nil, term.Usage("%s has no hyperparameter %s, and its command does not name it: nobody would take it. It has: %s", from.Address, strings.Join(unknown, ", "), had)
	}
	return out, substituted, nil
}
