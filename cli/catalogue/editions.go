package catalogue

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

func (a *Commands) showEdition(output string, e *api.Edition) error {
	if output != "table" {
		return a.Print(output, term.List("edition"), e)
	}
	fmt.Fprintf(a.Out, "%s  %s  %s\n", e.Address, e.Origin, strings.Join(e.Standings, ", "))
	fmt.Fprintf(a.Out, "%s, entered %s by %s", api.Bytes(e.Size), term.When(e.Entered), term.Printable(e.Who))
	if e.Why != "" {
		fmt.Fprintf(a.Out, ": %s", term.Printable(e.Why))
	}
	fmt.Fprintln(a.Out)
	if e.RunGone {
		fmt.Fprintln(a.Out, "Its run is deleted; what was known of it is here.")
	}
	for _, w := range e.Warnings {
		fmt.Fprintln(a.Out, "! "+term.Printable(w))
	}
	a.section("Is it better than the one in use?", e.Says.Better)
	a.section("What changed?", e.Says.Changed)
	if len(e.SignOffs) > 0 {
		l := term.List("signed off by", "for", "when", "why")
		for _, s := range e.SignOffs {
			l.Add(s.Who, s.Standing, term.When(s.At), s.Why)
		}
		fmt.Fprintln(a.Out, "\nWho signed it off?")
		a.table(l)
	}
	a.section("Has it been checked?", e.Says.Checked)
	l := term.List("check", "outcome", "figures", "by", "when", "text", "link", "files")
	for _, c := range e.Checks {
		l.Add(c.Name, map[bool]string{true: "passed", false: "failed"}[c.Passed], figures(c.Figures), c.Who,
			term.When(c.At), c.Text, c.Link, paths(c.Files))
	}
	a.table(l)
	f := &e.Facts
	a.section("Where does it come from?", fmt.Sprintf("%s by %s, started %s, epoch %s, usable for %s%s.",
		f.Run+title(f.Title),
		f.Who, term.When(f.Started), term.Epoch(f.Epoch), f.UsableFor, data(f.Data)))
	l = term.List("figure", "value#")
	for _, name := range sorted(f.Figures) {
		l.Add(name, term.Number(float64(f.Figures[name])))
	}
	for _, on := range sorted(f.Measured) {
		for _, name := range sorted(f.Measured[on]) {
			l.Add(name+" on "+on, term.Number(float64(f.Measured[on][name])))
		}
	}
	a.table(l)
	fmt.Fprintln(a.Out, "\nWhat is in it?")
	l = term.List("part", "file", "size#", "digest")
	for _, file := range e.Files {
		l.Add(file.Part, file.Path, api.Bytes(file.Size), file.Digest)
	}
	a.table(l)
	fmt.Fprintf(a.Out, "\n  kembrel restore %s --for-use --into model\n", e.Address)
	return nil
}

func title(text string) string {
	if text == "" {
		return ""
	}
	return " (" + text + ")"
}

func data(uses map[string]string) string {
	var out []string
	for _, use := range sorted(uses) {
		out = append(out, use+" "+uses[use])
	}
	if len(out) == 0 {
		return ""
	}
	return "; data: " + strings.Join(out, ", ")
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func figures(m map[string]api.Float) string {
	var out []string
	for _, name := range sorted(m) {
		out = append(out, name+" "+term.Number(float64(m[name])))
	}
	return strings.Join(out, ", ")
}

func (a *Commands) add() *cobra.Command {
	var model, output string
	in := &api.NewEdition{}
	cmd := &cobra.Command{Use: "add CHECKPOINT", Short: "Enter a checkpoint in a model, as its next edition",
		Args: term.Arguments("CHECKPOINT"),
		Long: `Enter a checkpoint in a model, as its next edition. The edition keeps the checkpoint's files and what is known of its run, whatever becomes of that. A
checkpoint that is in the model already is that edition.`,
		Example:           "  kembrel catalogue add vessels/3@best --model vessel-classifier --why \"hears motor sailers at last\"",
		ValidArgsFunction: a.App.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if model == "" {
				return term.Usage("say in which model: --model vessel-classifier")
			}
			at, err := address(model, "model")
			if err != nil {
				return err
			}
			if _, err := term.Address(args[0], true, true); err != nil {
				return err
			}
			in.Model, in.Body.Origin = at.Model, args[0]
			e, err := client.Call(cmd.Context(), a.Client(), api.AddEdition, in)
			if err != nil {
				return err
			}
			if output != "table" {
				return a.Print(output, term.List("edition"), e)
			}
			what := "is"
			if e.Existed {
				what = "was there before:"
			}
			fmt.Fprintf(a.Out, "%s %s %s\n", e.Address, what, e.Origin)
			for _, w := range e.Warnings {
				fmt.Fprintln(a.Out, "! "+term.Printable(w))
			}
			fmt.Fprintf(a.Out, "kembrel catalogue propose %s asks that it is used\n", e.Address)
			return nil
		}}
	cmd.Flags().StringVar(&model, "model", "", "model that it is entered in")
	cmd.Flags().StringVar(&in.Body.Why, "why", "", "why, for those who decide")
	a.OutputFlag(cmd, &output)
	cmd.RegisterFlagCompletionFunc("model", a.Complete("model"))
	return cmd
}

func (a *Commands) check() *cobra.Command {
	in := &api.NewEditionCheck{}
	var passed, failed bool
	var given, files []string
	cmd := &cobra.Command{Use: "check EDITION", Short: "Report the outcome of a check on an edition",
		Args: term.Arguments("EDITION"),
		Long: `Report the outcome of a named check on an edition: of a test of your own, by a person or a machine. A standing may ask that a check has passed. What
was signed off before a check was reported must be signed off again.`,
		Example: `  kembrel catalogue check vessel-classifier#3 --name "every class" --passed --figure "lowest recall=0.842"
  kembrel catalogue check vessel-classifier/proposed --name "time for a clip" --failed --figure ms=7.1 --text "twice what is allowed"
  kembrel catalogue check vessel-classifier#3 --name "every class" --passed --file report.html`,
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if passed == failed || in.Body.Name == "" {
				return term.Usage("say which check and how it came out: --name \"every class\" --passed, or --failed")
			}
			in.Body.Passed, in.Body.Figures = passed, map[string]api.Float{}
			for _, text := range given {
				name, number, _ := strings.Cut(text, "=")
				v, err := strconv.ParseFloat(number, 64)
				if err != nil || name == "" {
					return term.Usage("--figure %s: write NAME=NUMBER", text)
				}
				in.Body.Figures[name] = api.Float(v)
			}
			e, err := a.edition(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			in.Model, in.Edition = e.Model, e.Number
			for _, path := range files {
				sent, err := a.SendFile(cmd.Context(), path)
				if err != nil {
					return err
				}
				in.Body.Files = append(in.Body.Files, sent)
			}
			now, err := client.Call(cmd.Context(), a.Client(), api.ReportCheck, in)
			if err == nil {
				fmt.Fprintf(a.Out, "%s: %s\n", now.Address, now.Says.Checked)
			}
			return err
		}}
	f := cmd.Flags()
	f.StringVar(&in.Body.Name, "name", "", "of the check")
	f.BoolVar(&passed, "passed", false, "it passed")
	f.BoolVar(&failed, "failed", false, "it did not")
	f.StringArrayVar(&given, "figure", nil, "NAME=NUMBER that came of it")
	f.StringVar(&in.Body.Text, "text", "", "what else is to be known")
	f.StringVar(&in.Body.Link, "link", "", "where more stands")
	f.StringArrayVar(&files, "file", nil, "file that came of it, to be kept with it; may be repeated")
	return cmd
}

func (a *Commands) checkFiles() *cobra.Command {
	var name, into string
	var overwrite bool
	cmd := &cobra.Command{Use: "check-files EDITION --name CHECK --into FOLDER",
		Short: "Write the files that came of a check into a folder, verified", Args: term.Arguments("EDITION"),
		Example:           `  kembrel catalogue check-files vessel-classifier#3 --name "every class" --into report`,
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if name == "" || into == "" {
				return term.Usage("say of which check, and where to: --name \"every class\" --into FOLDER")
			}
			e, err := a.edition(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			i := slices.IndexFunc(e.Checks, func(c api.EditionCheck) bool { return c.Name == name })
			if i < 0 || len(e.Checks[i].Files) == 0 {
				return term.Exit{Code: term.ExitNotFound,
					Err: fmt.Errorf("no file came of a check %q on %s", name, e.Address)}
			}
			at := api.EditionInput{ModelInput: api.ModelInput{Model: e.Model}, Edition: e.Number}
			for _, f := range e.Checks[i].Files {
				if err := a.WriteVerified(into, f.Path, f.Digest, overwrite, func() (io.ReadCloser, error) {
					return client.Stream(cmd.Context(), a.Client(), api.GetEditionFile,
						&api.EditionFileInput{EditionInput: at, Path: f.Path, Check: name})
				}); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.Out, "%s in %s\n", term.Many(int64(len(e.Checks[i].Files)), "file", "files"), into)
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&name, "name", "", "of the check")
	f.StringVar(&into, "into", "", "folder to write into")
	f.BoolVar(&overwrite, "overwrite", false, "replace files that are there")
	return cmd
}

// edition is the edition that an argument names.
func (a *Commands) edition(ctx context.Context, text string) (*api.Edition, error) {
	at, err := address(text, "edition")
	if err != nil {
		return nil, err
	}
	return term.Edition(ctx, a.Client(), at)
}

func (a *Commands) reportUse() *cobra.Command {
	in := &api.NewUse{}
	cmd := &cobra.Command{Use: "report-use EDITION", Short: "Report where an edition is used",
		Args: term.Arguments("EDITION"),
		Long: `Report where an edition is used, so that the model's page says what runs where and what is out of date. Say it again now and then: the page shows when it was
last heard.`,
		Example: `  kembrel catalogue report-use vessel-classifier#3 --where harbour-north
  kembrel catalogue report-use vessel-classifier#3 --where harbour-north --undo`,
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if in.Body.Where == "" {
				return term.Usage("say where: --where harbour-north")
			}
			e, err := a.edition(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			in.Model, in.Edition = e.Model, e.Number
			if _, err := client.Call(cmd.Context(), a.Client(), api.ReportUse, in); err != nil {
				return err
			}
			if in.Body.Ended {
				fmt.Fprintf(a.Out, "%s is used at %s no more\n", e.Model, in.Body.Where)
				return nil
			}
			fmt.Fprintf(a.Out, "%s is used at %s\n", e.Address, in.Body.Where)
			return nil
		}}
	cmd.Flags().StringVar(&in.Body.Where, "where", "", "the place or system")
	cmd.Flags().BoolVar(&in.Body.Ended, "undo", false, "it is used there no more")
	return cmd
}

func paths(files []api.CheckFile) string {
	out := make([]string, len(files))
	for i, f := range files {
		out[i] = f.Path
	}
	return strings.Join(out, ", ")
}
