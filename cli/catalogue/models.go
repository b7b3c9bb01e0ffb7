package catalogue

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/catalogue"
)

// address reads an address in the catalogue that names what is wanted: a model, an edition, a standing.
func address(text, wanted string) (catalogue.Address, error) {
	a, err := catalogue.Parse(text)
	if err != nil {
		return a, term.Usage("%w", err)
	}
	switch {
	case wanted == "model" && (a.Edition > 0 || a.Standing != ""):
		return a, term.Usage("%s names an edition; the model is %s", text, a.Model)
	case wanted == "standing" && a.Standing == "":
		return a, term.Usage("%s is no standing, such as %s/in-use", text, a.Model)
	case wanted == "edition" && a.Edition == 0 && a.Standing == "":
		return a, term.Usage("%s is a model; an edition is %s#3 or %s/in-use", text, a.Model, a.Model)
	}
	return a, nil
}

// Catalogue makes the command catalogue.
func (a *Commands) Catalogue() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "catalogue", Short: "List the models that the team hands on; look after them",
		Args: term.Arguments(),
		Long: `List the models that the team hands on, with what is in use of each and what waits.

A model is for one purpose. Checkpoints are entered in it as numbered editions,
	which never change and stay when their run is deleted. An edition has a standing,
such as in-use,
	which one edition of a model has at a time; a guarded one takes an edition only with sign-offs of approvers and the checks that it asks for.

  vessel-classifier           a model
  vessel-classifier#3         its edition 3
  vessel-classifier/in-use    the edition that is in use
  vessel-classifier/proposed  the edition that is asked for a guarded standing`,
		Example: `  kembrel catalogue
  kembrel catalogue show vessel-classifier
  kembrel restore vessel-classifier/in-use --for-use --into model`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := client.All(cmd.Context(), a.Client(), api.ListModels, &api.PageInput{Limit: 200},
				func(in *api.PageInput, cursor string) { in.Cursor = cursor })
			if err != nil {
				return err
			}
			l := term.List("model", "title", "project", "editions#", "standings", "waits")
			l.Empty = "There is no model yet; kembrel catalogue create vessel-classifier --project vessels makes one."
			for _, m := range all {
				l.Add(m.Name, m.Title, m.Project, strconv.Itoa(m.Editions), standings(m), waiting(m))
			}
			return a.Print(output, l, term.OrEmpty(all))
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.show(), a.create(), a.change(), a.add(), a.propose(), a.sign(), a.withdraw(), a.goBack(),
		a.clear(), a.history(), a.check(), a.checkFiles(), a.reportUse(), a.describe(), a.rules(), a.addRule(),
		a.clearRule())
	return cmd
}

func standings(m api.Model) string {
	var out []string
	for _, st := range m.Standings {
		if st.Edition > 0 {
			out = append(out, fmt.Sprintf("%s #%d", st.Name, st.Edition))
		}
	}
	return cmp.Or(strings.Join(out, ", "), "none has one")
}

func waiting(m api.Model) string {
	var out []string
	for _, w := range m.Waiting {
		out = append(out, fmt.Sprintf("#%d for %s", w.Edition, w.Standing))
	}
	return strings.Join(out, ", ")
}

func (a *Commands) show() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "show MODEL|EDITION", Short: "Show a model, or one of its editions",
		Args: term.Arguments("MODEL|EDITION"),
		Example: `  kembrel catalogue show vessel-classifier
  kembrel catalogue show vessel-classifier#3
  kembrel catalogue show vessel-classifier/in-use`,
		ValidArgsFunction: a.Complete("edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "")
			if err != nil {
				return err
			}
			if at.Edition > 0 || at.Standing != "" {
				e, err := term.Edition(cmd.Context(), a.Client(), at)
				if err != nil {
					return err
				}
				return a.showEdition(output, e)
			}
			m, err := client.Call(cmd.Context(), a.Client(), api.GetModel, &api.ModelInput{Model: at.Model})
			if err != nil {
				return err
			}
			return a.showModel(output, m)
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

// section writes a question with its answer.
func (a *Commands) section(question, says string) {
	fmt.Fprintf(a.Out, "\n%s\n", question)
	a.Line("  %s", term.Printable(says))
}

func (a *Commands) table(l term.Listing) {
	if len(l.Rows) > 0 {
		a.Table(l, 2)
	}
}

func (a *Commands) showModel(output string, m *api.Model) error {
	if output != "table" {
		return a.Print(output, term.List("model"), m)
	}
	fmt.Fprintf(a.Out, "%s  %s\n", m.Name, term.Printable(m.Title))
	if m.Purpose != "" {
		fmt.Fprintln(a.Out, term.Printable(m.Purpose))
	}
	fmt.Fprintf(a.Out, "of project %s, %s, made %s by %s\n", m.Project, term.Many(int64(m.Editions), "edition",
		"editions"), term.When(m.Created), term.Printable(m.Who))
	a.section("What is in use?", m.Says.InUse)
	l := term.List("standing", "edition#", "checkpoint", "figure", "since", "by", "signed off by", "why", "asks for")
	l.Spare = []string{"why", "checkpoint"}
	for _, st := range m.Standings {
		number, since := "", ""
		if st.Edition > 0 {
			number = "#" + strconv.Itoa(st.Edition)
		}
		if st.Since != nil {
			since = term.When(*st.Since)
		}
		l.Add(st.Name, number, st.Origin, st.Figure, since, st.Who, signers(st.SignOffs), st.Why,
			asksFor(st.Rule))
	}
	a.table(l)
	if len(m.Waiting) > 0 {
		a.section("What waits?", m.Says.Waiting)
		l := term.List("edition#", "for", "by", "why", "asked", "signed off by")
		for _, w := range m.Waiting {
			l.Add("#"+strconv.Itoa(w.Edition), w.Standing, w.Who, w.Why, term.When(w.Asked), signed(w.SignOffs))
		}
		a.table(l)
	}
	a.section("What runs where?", m.Says.Where)
	l = term.List("where", "edition#", "since", "last heard", "")
	for _, c := range m.Consumers {
		l.Add(c.Where, "#"+strconv.Itoa(c.Edition), term.When(c.Since), term.When(c.Heard), behind(c.Behind))
	}
	a.table(l)
	fmt.Fprintln(a.Out, "\nWhich editions are there?")
	l = term.List("edition#", "checkpoint", "standing", "figure", "checks", "size#", "entered", "by", "why")
	l.Spare = []string{"why", "size", "by"}
	for _, e := range m.Latest {
		l.Add("#"+strconv.Itoa(e.Number), e.Origin, strings.Join(e.Standings, ", "), figure(&e.Facts),
			outcomes(e.Checks),
			api.Bytes(e.Size), term.When(e.Entered), e.Who, e.Why)
	}
	l.Empty = "None yet."
	a.table(l)
	return nil
}

func asksFor(r catalogue.Rule) string {
	var out []string
	if r.Approvers > 0 {
		out = append(out, term.Many(int64(r.Approvers), "sign-off", "sign-offs"))
	}
	if len(r.Checks) > 0 {
		checks := slices.Clone(r.Checks)
		for i, c := range checks {
			if by := r.Reporters[c]; by != "" {
				checks[i] += " by " + by
			}
		}
		out = append(out, "checks: "+strings.Join(checks, ", "))
	}
	return strings.Join(out, "; ")
}

// signers are those who had signed off when a standing took effect.
func signers(list []api.Signed) string {
	var out []string
	for _, s := range list {
		out = append(out, s.Who)
	}
	return strings.Join(out, ", ")
}

func signed(list []api.SignOff) string {
	var out []string
	for _, s := range list {
		text := s.Who
		if !s.Counts {
			text += " (" + map[string]string{"withdrawn": "withdrawn", "checks": "checked since", "closed": "gone",
				"own": "asked for it", "role": "not an approver now"}[s.Not] + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func behind(n int) string {
	switch {
	case n == 0:
		return "in use"
	case n < 0:
		return "never in use"
	}
	return term.Many(int64(n), "edition", "editions") + " behind"
}

func outcomes(checks []api.EditionCheck) string {
	passed := 0
	for _, c := range checks {
		if c.Passed {
			passed++
		}
	}
	if len(checks) == 0 {
		return ""
	}
	return fmt.Sprintf("%d of %d passed", passed, len(checks))
}

func figure(f *api.EditionFacts) string {
	v, known := f.Figures[f.Objective.Curve]
	if !known {
		return ""
	}
	return f.Objective.Curve + " " + term.Number(float64(v))
}

// rules reads standings as flags give them: NAME or NAME=SIGN-OFFS, and STANDING=CHECK.
// reporters say who reports a check: CHECK=NAME.
func rules(names, checks, reporters []string) ([]catalogue.Rule, error) {
	var out []catalogue.Rule
	for _, text := range names {
		name, number, has := strings.Cut(text, "=")
		r := catalogue.Rule{Name: name}
		if has {
			n, err := strconv.Atoi(number)
			if err != nil || n < 0 || n > 20 {
				return nil, term.Usage("--standing %s: %q is no number of sign-offs from 0 to 20", text, number)
			}
			r.Approvers = n
		}
		out = append(out, r)
	}
	for _, text := range checks {
		name, check, has := strings.Cut(text, "=")
		found := false
		for i := range out {
			if out[i].Name == name && has {
				out[i].Checks, found = append(out[i].Checks, check), true
			}
		}
		if !found {
			return nil, term.Usage("--needs %s: write STANDING=CHECK, of a standing that --standing names", text)
		}
	}
	for _, text := range reporters {
		check, who, has := strings.Cut(text, "=")
		found := false
		for i := range out {
			if has && who != "" && slices.Contains(out[i].Checks, check) {
				if out[i].Reporters == nil {
					out[i].Reporters = map[string]string{}
				}
				out[i].Reporters[check], found = who, true
			}
		}
		if !found {
			return nil, term.Usage("--reported-by %s: write CHECK=NAME, of a check that --needs names", text)
		}
	}
	return out, nil
}

func standingFlags(cmd *cobra.Command, names, checks, reporters *[]string) {
	cmd.Flags().StringArrayVar(names, "standing", nil,
		"a standing, and how many must sign off: in-use=2; once for each, in their order")
	cmd.Flags().StringArrayVar(checks, "needs", nil,
		"a check that must have passed for a standing: in-use='every class'")
	cmd.Flags().StringArrayVar(reporters, "reported-by", nil,
		"who must report a check, a person or machine account: 'every class=buildhall'; others do not count")
}

// purposeFlags are how the text on what a model is for comes in.
func purposeOf(purpose, file string) (string, error) {
	if file == "" {
		return purpose, nil
	}
	if purpose != "" {
		return "", term.Usage("--purpose and --purpose-file say the same thing; give one of them")
	}
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 20_001))
	if err == nil && len(text) > 20_000 {
		err = fmt.Errorf("%s has more than 20,000 bytes", file)
	}
	return string(text), err
}

func (a *Commands) create() *cobra.Command {
	in := &api.NewModel{}
	var names, checks, reporters []string
	var file string
	cmd := &cobra.Command{Use: "create MODEL", Short: "Make a model", Args: term.Arguments("MODEL"),
		Long: `Make a model. The roles of its project say who may enter editions (member), sign off (approver) and change it (owner). Without --standing it has one, in-use, which
is guarded by one sign-off.`,
		Example: `  kembrel catalogue create vessel-classifier --project vessels --title "Vessel classes by sound"
  kembrel catalogue create vessel-classifier --project vessels --standing in-use=2 --standing fallback --needs in-use='every class'`,
		ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if in.Body.Project == "" {
				return term.Usage("say whose roles hold: --project vessels")
			}
			if in.Body.Standings, err = rules(names, checks, reporters); err != nil {
				return err
			}
			if in.Body.Purpose, err = purposeOf(in.Body.Purpose, file); err != nil {
				return err
			}
			in.Body.Name = args[0]
			m, err := client.Call(cmd.Context(), a.Client(), api.CreateModel, in)
			if err == nil {
				fmt.Fprintf(a.Out, "%s is there; kembrel catalogue add vessels/3@best --model %s enters a checkpoint\n",
					m.Name,
					m.Name)
			}
			return err
		}}
	f := cmd.Flags()
	f.StringVar(&in.Body.Project, "project", "", "project whose roles say who may do what")
	f.StringVar(&in.Body.Title, "title", "", "title")
	f.StringVar(&in.Body.Purpose, "purpose", "", "what it is for, as Markdown")
	f.StringVar(&file, "purpose-file", "", "a file with that")
	f.StringVar(&in.Body.Limits, "limits", "", "what it cannot do, as Markdown")
	f.StringVar(&in.Body.Contact, "contact", "", "whom its users can ask")
	standingFlags(cmd, &names, &checks, &reporters)
	cmd.RegisterFlagCompletionFunc("project", a.App.Complete(false, false))
	return cmd
}

func (a *Commands) change() *cobra.Command {
	var names, checks, reporters []string
	var title, purpose, file, limits, contact string
	cmd := &cobra.Command{Use: "change MODEL", Short: "Change a model's text or its standings",
		Args: term.Arguments("MODEL"),
		Long: `Change a model's text or its standings. --standing is given once for each standing that it is to have, all of them, in their order. One that an edition
had or was asked for stays. What waits is looked at by the new rules at once.`,
		Example: `  kembrel catalogue change vessel-classifier --title "Vessel classes by sound"
  kembrel catalogue change vessel-classifier --standing in-use=2 --standing fallback --needs in-use='every class'`,
		ValidArgsFunction: a.Complete("model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "model")
			if err != nil {
				return err
			}
			in := &api.ModelEdit{ModelInput: api.ModelInput{Model: at.Model}}
			if in.Body.Standings, err = rules(names, checks, reporters); err != nil {
				return err
			}
			if cmd.Flags().Changed("title") {
				in.Body.Title = &title
			}
			if cmd.Flags().Changed("limits") {
				in.Body.Limits = &limits
			}
			if cmd.Flags().Changed("contact") {
				in.Body.Contact = &contact
			}
			if purpose, err = purposeOf(purpose, file); err != nil {
				return err
			}
			if cmd.Flags().Changed("purpose") || file != "" {
				in.Body.Purpose = &purpose
			}
			m, err := client.Call(cmd.Context(), a.Client(), api.ChangeModel, in)
			if err != nil {
				return err
			}
			return a.showModel("table", m)
		}}
	f := cmd.Flags()
	f.StringVar(&title, "title", "", "title")
	f.StringVar(&purpose, "purpose", "", "what it is for, as Markdown")
	f.StringVar(&file, "purpose-file", "", "a file with that")
	f.StringVar(&limits, "limits", "", "what it cannot do, as Markdown")
	f.StringVar(&contact, "contact", "", "whom its users can ask")
	standingFlags(cmd, &names, &checks, &reporters)
	return cmd
}

func (a *Commands) history() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "history MODEL", Short: "List who had which standing of a model, and when",
		Args: term.Arguments("MODEL"), Example: "  kembrel catalogue history vessel-classifier",
		ValidArgsFunction: a.Complete("model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := address(args[0], "model")
			if err != nil {
				return err
			}
			m, err := client.Call(cmd.Context(), a.Client(), api.GetModel, &api.ModelInput{Model: at.Model})
			if err != nil {
				return err
			}
			l := term.List("standing", "edition#", "since", "until", "by", "signed off by", "why")
			l.Empty = "No edition of " + m.Name + " had a standing."
			for _, h := range m.History {
				number, until := "none", "today"
				if h.Edition > 0 {
					number = "#" + strconv.Itoa(h.Edition)
				}
				if h.Until != nil {
					until = term.When(*h.Until)
				}
				l.Add(h.Standing, number, term.When(h.Since), until, h.Who, signers(h.SignOffs), h.Why)
			}
			return a.Print(output, l, term.OrEmpty(m.History))
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}
