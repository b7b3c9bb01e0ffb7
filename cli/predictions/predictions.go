package predictions

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// choice says which sheet of a run is meant.
type choice struct {
	number int
	split  string
	epoch  float64
}

func (c *choice) add(f *pflag.FlagSet) {
	f.IntVar(&c.number, "sheet", 0, "number of the sheet, instead of the latest")
	f.StringVar(&c.split, "split", "", "of which split, instead of val, test, or what there is")
	f.Float64Var(&c.epoch, "epoch", -1, "of the last sheet up to this epoch")
}

// of finds the sheet of a run that is meant.
func (c *choice) of(ctx context.Context, a *Commands, run string) (api.SheetInput, error) {
	addr, err := term.Address(run, true, false)
	if err != nil {
		return api.SheetInput{}, err
	}
	out := api.SheetInput{RunInput: term.RunOf(addr), Sheet: c.number, Split: c.split}
	if c.number < 0 || c.number > math.MaxInt32 {
		return out, term.Usage("--sheet %d is none", c.number)
	}
	if c.epoch < 0 || c.number > 0 {
		return out, nil
	}
	latest, err := client.Call(ctx, a.Client(), api.GetSheet, &out)
	if err != nil {
		return out, err
	}
	for _, at := range latest.Over {
		if float64(at.Epoch) <= c.epoch {
			out.Sheet = at.Number
		}
	}
	if out.Sheet == 0 {
		return out, fmt.Errorf("%s has no predictions on %s up to epoch %v", addr, latest.Split, c.epoch)
	}
	return out, nil
}

// Predictions makes the command predictions with those below it.
func (a *Commands) Predictions() *cobra.Command {
	var output, disagree string
	var files term.Files
	var which choice
	in := &api.ExamplesInput{}
	cutoff := 0.0
	cmd := &cobra.Command{Use: "predictions RUN",
		Short: "List the prediction sheets of a run, or examples of one", Args: term.Arguments("RUN"),
		Long: `List the prediction sheets of a run. With --where, --order or --disagree, list examples of one sheet: --where takes the filter language (docs/filter.md) on
key, true, predicted, right, score, margin, loss, group, text and your own columns. --to writes all of a sheet,
	or what --where lets through, into a file.`,
		Example: `  kembrel predictions vessels/3
  kembrel predictions vessels/3 --where 'true == "tug" && predicted == "ferry"' --order surest
  kembrel predictions vessels/3 --order suspect --limit 20
  kembrel predictions vessels/3 --disagree vessels/8
  kembrel predictions vessels/3 --to answers.csv --cutoff 0.6`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := files.Check("csv", "jsonl", "parquet"); err != nil {
				return err
			}
			ctx := cmd.Context()
			examples := in.Where != "" || in.Order != "key" || len(files.Paths) > 0 || cmd.Flags().Changed("limit")
			if !examples && disagree == "" {
				return a.list(ctx, args[0], which.split, output)
			}
			at, err := which.of(ctx, a, args[0])
			if err != nil {
				return err
			}
			in.SheetInput = at
			for _, path := range files.Paths {
				if err := term.WriteAnswer(ctx, a.App, path, api.GetExamplesFile, &api.ExamplesFileInput{
					SheetInput: at, Where: in.Where, Format: term.Kind(path, "csv"), Cutoff: cutoff}); err != nil {
					return err
				}
			}
			switch {
			case len(files.Paths) > 0:
				return nil
			case disagree != "":
				return a.disagree(ctx, in, disagree, output)
			}
			return a.examples(ctx, in, output)
		}}
	a.OutputFlag(cmd, &output)
	fl := cmd.Flags()
	which.add(fl)
	fl.StringVar(&in.Where, "where", "", "only examples that fulfil this, such as 'right == false'")
	fl.StringVar(&in.Order, "order", "key",
		"key (as they came), surest, doubtful, loss, suspect (surely contradicted labels); of all but classes error")
	cmd.RegisterFlagCompletionFunc("order", cobra.FixedCompletions([]string{"key", "surest", "doubtful", "loss",
		"suspect", "error"}, cobra.ShellCompDirectiveNoFileComp))
	fl.IntVar(&in.Limit, "limit", 50, "at most so many, up to 1000")
	fl.StringVar(&disagree, "disagree", "", "examples to which this run answers otherwise")
	fl.Float64Var(&cutoff, "cutoff", 0, "with --to: leave answers out whose score is below this")
	term.FilesFlag(cmd, &files, ".csv, .jsonl or .parquet")
	cmd.AddCommand(a.show(), a.add(), a.mark(), a.marks())
	return cmd
}

// list lists the sheets of a run.
func (a *Commands) list(ctx context.Context, run, split, output string) error {
	addr, err := term.Address(run, true, false)
	if err != nil {
		return err
	}
	all, err := client.All(ctx, a.Client(), api.ListSheets, &api.SheetsInput{RunInput: term.RunOf(addr), Split: split,
		PageInput: api.PageInput{Limit: 500}}, func(in *api.SheetsInput, cursor string) { in.Cursor = cursor })
	if err != nil {
		return err
	}
	under, err := client.Call(ctx, a.Client(), api.ListSheets, &api.SheetsInput{RunInput: term.RunOf(addr),
		Split: split, State: api.Assessing})
	if err != nil {
		return err
	}
	if output == "table" {
		for _, s := range under.Items {
			fmt.Fprintf(a.Err, "A sheet on %s, epoch %s, is %s\n", s.Split, term.Epoch(s.Epoch), term.Printable(s.Says))
		}
	}
	l := term.List("sheet#", "split", "epoch#", "examples#", "figure", "", "alarms", "made")
	l.Empty, l.Shorten = fmt.Sprintf("%s has no predictions (docs/predictions.md).", addr), "alarms"
	if len(under.Items) > 0 {
		l.Empty = "None is complete yet."
	}
	for _, s := range all {
		row := []string{fmt.Sprint(s.Number), s.Split, term.Epoch(s.Epoch), api.Thousands(s.Examples), "", "",
			strings.Join(kinds(s.Alarms), ", "), term.When(s.Created)}
		if len(s.Figures) > 0 {
			row[4], row[5] = s.Figures[0].Name, interval(s.Figures[0].Interval)
		}
		l.Add(row...)
	}
	return a.Print(output, l, term.OrEmpty(all))
}

// kinds are the kinds of alarms, each once.
func kinds(alarms []api.Alarm) []string {
	var out []string
	for i, x := range alarms {
		if i == 0 || alarms[i-1].Kind != x.Kind {
			out = append(out, string(x.Kind))
		}
	}
	return out
}

func interval(v assess.Interval) string {
	if v.Low == nil {
		return fmt.Sprintf("%.3f", v.Value)
	}
	return fmt.Sprintf("%.3f (%.3f to %.3f)", v.Value, *v.Low, *v.High)
}

func share(v *float64) string {
	if v == nil {
		return ""
	}
	return fmt.Sprintf("%.3f", *v)
}

// examples lists examples of a sheet.
func (a *Commands) examples(ctx context.Context, in *api.ExamplesInput, output string) error {
	got, err := client.Call(ctx, a.Client(), api.ListExamples, in)
	if err != nil {
		return err
	}
	l := exampleList(got.Items)
	l.Empty = "No example is like that."
	if err := a.Print(output, l, got); err != nil {
		return err
	}
	if output == "table" && got.Count > len(got.Items) {
		fmt.Fprintf(a.Err, "%d of %s; --limit shows more, --to writes all\n", len(got.Items),
			term.Many(int64(got.Count), "example", "examples"))
	}
	return nil
}

func exampleList(items []api.Example) term.Listing {
	var groups, texts, numbers, off bool
	for _, e := range items {
		groups, texts, numbers = groups || e.Group != "", texts || e.Text != "", numbers || e.Value != nil
		off = off || e.Error != nil || e.Labels != nil || e.Answered != nil
	}
	head := []string{"key", "true", "predicted", "score#", "loss#"}
	switch {
	case numbers:
		head = []string{"key", "true#", "predicted#", "error#"}
	case off:
		head = []string{"key", "true", "predicted", "error#"}
	}
	if groups {
		head = append(head, "group")
	}
	if texts {
		head = append(head, "text")
	}
	l := term.List(head...)
	for _, e := range items {
		row := []string{term.Printable(e.Key), term.Printable(e.True), term.Printable(e.Predicted), digits(e.Score),
			digits(e.Loss)}
		switch {
		case numbers:
			row = []string{term.Printable(e.Key), digits(e.Target), digits(e.Value), digits(e.Error)}
		case off:
			row = []string{term.Printable(e.Key), answer(e.True, e.Labels), answer(e.Predicted, e.Answered),
				digits(e.Error)}
		}
		if groups {
			row = append(row, term.Printable(e.Group))
		}
		if texts {
			row = append(row, term.Printable(e.Text))
		}
		l.Add(row...)
	}
	return l
}

// answer is a text, or several classes.
func answer(text string, classes []string) string {
	if text == "" {
		text = strings.Join(classes, "; ")
	}
	return term.Printable(text)
}

func digits(v *api.Float) string {
	if v == nil {
		return ""
	}
	if x := float64(*v); math.Abs(x) < 100 {
		return fmt.Sprintf("%.3f", x)
	}
	return term.Number(float64(*v))
}

// disagree lists the examples to which two runs answer otherwise.
func (a *Commands) disagree(ctx context.Context, in *api.ExamplesInput, other, output string) error {
	if _, err := term.Address(other, true, false); err != nil {
		return err
	}
	got, err := client.Call(ctx, a.Client(), api.GetDisagreement, &api.DisagreementInput{SheetInput: in.SheetInput,
		Run: other, Where: in.Where, Limit: in.Limit, Kind: "answers"})
	if err != nil {
		return err
	}
	l := term.List("key", "true", got.First.Run, "score#", got.Second.Run, "score#")
	l.Empty = "They answer alike."
	for _, e := range got.Items {
		l.Add(term.Printable(e.Key), answer(e.True, e.Labels), answer(e.Predicted, e.Answered), digits(e.Score),
			term.Printable(e.Other), digits(e.OtherScore))
	}
	if output == "table" {
		a.Line("%s", term.Printable(got.Says))
		if by := byClass(got); len(by.Rows) > 0 {
			fmt.Fprintln(a.Out)
			a.Table(by, 0)
			fmt.Fprintln(a.Out)
		}
	}
	if err := a.Print(output, l, got); err != nil {
		return err
	}
	if output == "table" && got.Count > len(got.Items) {
		fmt.Fprintf(a.Err, "%d of %s; --limit shows more\n", len(got.Items),
			term.Many(int64(got.Count), "example", "examples"))
	}
	return nil
}

func byClass(d *api.SheetDisagreement) term.Listing {
	l := term.List("class", "both right#", d.First.Run+" alone#", d.Second.Run+" alone#", "neither#", "p#")
	for _, c := range d.Classes {
		l.Add(term.Printable(c.Name), fmt.Sprint(c.Both), fmt.Sprint(c.First), fmt.Sprint(c.Second),
			fmt.Sprint(c.Neither),
			fmt.Sprintf("%.2g", c.P))
	}
	return l
}

func (a *Commands) show() *cobra.Command {
	var output string
	var which choice
	cmd := &cobra.Command{Use: "show RUN", Short: "Say what a model gets wrong", Args: term.Arguments("RUN"),
		Long: `Say of a prediction sheet of a run whether anything is broken (alarms), what is taken for what, and what it comes to: figures that the service
computes from the answers, with 95 % intervals, over all and by class.`,
		Example:           "  kembrel predictions show vessels/3\n  kembrel predictions show vessels/3 --split test --epoch 12",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := which.of(cmd.Context(), a, args[0])
			if err != nil {
				return err
			}
			d, err := client.Call(cmd.Context(), a.Client(), api.GetSheet, &at)
			if err != nil {
				return err
			}
			if output == "json" {
				return term.WriteJSON(a.Out, d)
			}
			a.tell(d)
			return nil
		}}
	a.OutputFlag(cmd, &output)
	which.add(cmd.Flags())
	return cmd
}

// tell prints what a sheet comes to.
func (a *Commands) tell(d *api.SheetDetail) {
	p := a.Line
	say := func(text string) { p("  %s", term.Printable(text)) }
	a.head(d)
	p("\nIs anything broken?")
	for _, x := range d.Alarms {
		say("! " + x.Says)
	}
	if d.Quiet != "" {
		say(d.Quiet)
	}
	p("\nWhat does it get wrong?")
	say(d.Says)
	for i, pair := range d.Pairs {
		if i > 0 && i < 5 {
			say(pair.Says)
		}
	}
	if len(d.Assessed.Classes) > 0 {
		p("")
		a.Table(classList(d), 2)
	}
	p("\nWhat does it come to?")
	l := term.List("figure", "", "95 % from#", "to#")
	for _, f := range d.Figures {
		l.Add(f.Name, fmt.Sprintf("%.4f", f.Value), share(f.Low), share(f.High))
	}
	a.Table(l, 2)
	groups := d.Assessed.Groups
	bounded := func(f assess.Measured) bool { return f.Low != nil }
	if groups > 1 && groups < assess.FewGroups && !slices.ContainsFunc(d.Figures, bounded) {
		say(fmt.Sprintf("%d groups are too few for intervals: %d are needed.", groups, assess.FewGroups))
	}
}

// head says which sheet is shown.
func (a *Commands) head(d *api.SheetDetail) {
	where := d.Split
	if d.Data != "" {
		where = d.Data
	}
	fmt.Fprintf(a.Out, "%s, epoch %s (sheet %d): %s, %s\n", d.Run, term.Epoch(d.Epoch), d.Number,
		term.Many(d.Examples, "example", "examples"), where)
}

func classList(d *api.SheetDetail) term.Listing {
	l := term.List("class", "examples#", "recall#", "95 %", "precision#", "F1#", "area#")
	masks := d.Task == sheet.Masks
	if masks {
		l = term.List("class", "pixels#", "recall#", "", "precision#", "Dice#", "IoU#")
	}
	for _, c := range d.Assessed.Classes {
		row := []string{term.Printable(c.Name), api.Thousands(c.True), "", "", "", share(c.F1), share(c.Area)}
		if masks {
			row[6] = share(c.IoU)
		}
		if c.Recall != nil {
			row[2] = fmt.Sprintf("%.3f", c.Recall.Value)
			if c.Recall.Low != nil {
				row[3] = fmt.Sprintf("%.3f to %.3f", *c.Recall.Low, *c.Recall.High)
			}
		}
		if c.Precision != nil {
			row[4] = fmt.Sprintf("%.3f", c.Precision.Value)
		}
		l.Add(row...)
	}
	return l
}
