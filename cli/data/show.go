package data

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/dataset"
)

// Data makes the command data with those below it.
func (a *Commands) Data() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "data",
		Short: "Datasets: their snapshots, whether their split can be trusted, who used them",
		Args:  term.Arguments(),
		Long: `A dataset has a name, and numbered snapshots that never change: hydrophone#3. A snapshot lists items with digest, split, group and label. Without a command
below, data lists the datasets.`,
		Example: "  kembrel data\n  kembrel data show hydrophone\n  kembrel data check hydrophone#3",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := client.All(cmd.Context(), a.Client(), api.ListDatasets, &api.PageInput{Limit: 500},
				func(in *api.PageInput, cursor string) { in.Cursor = cursor })
			if err != nil {
				return err
			}
			l := term.List("latest", "snapshots#", "items#", "size#", "split", "made", "by")
			l.Empty = "There is no dataset yet. kembrel data add NAME --from FOLDER makes one."
			for _, d := range all {
				l.Add(d.Latest, fmt.Sprint(d.Snapshots), api.Thousands(d.Items), api.Bytes(d.Bytes), trustWord(d.Trust),
					term.When(d.Changed), term.Printable(d.Who))
			}
			return a.Print(output, l, term.OrEmpty(all))
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.add(), a.show(), a.check(), a.diff(), a.items())
	return cmd
}

func trustWord(trust string) string {
	return map[string]string{"trusted": "no item in two", "leaking": "leaks", "unknown": "not looked at"}[trust]
}

// snapshotOf reads the address of a snapshot; without a number it is the latest.
func snapshotOf(text string) (api.SnapshotInput, error) {
	at, err := api.ParseData(text)
	if err == nil && at.Split != "" {
		err = fmt.Errorf("%q names a split; a snapshot is wanted, such as hydrophone#3", text)
	}
	if err != nil {
		return api.SnapshotInput{}, term.Usage("%w", err)
	}
	return api.SnapshotInput{DatasetInput: api.DatasetInput{Dataset: at.Dataset}, Number: at.Number}, nil
}

// completeData completes names of datasets and their snapshots.
func (a *Commands) completeData(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
	if a.Settings.Load(cmd.Flags()) != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	name, _, in := strings.Cut(typed, "#")
	if in {
		page, err := client.Call(cmd.Context(), a.Client(), api.ListSnapshots, &api.SnapshotsInput{
			DatasetInput: api.DatasetInput{Dataset: name}, PageInput: api.PageInput{Limit: 200}})
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var out []string
		for _, s := range page.Items {
			out = append(out, s.Address)
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
	page, err := client.Call(cmd.Context(), a.Client(), api.ListDatasets, &api.PageInput{Limit: 500})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, d := range page.Items {
		out = append(out, d.Name+"#")
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// one finds a snapshot, and waits a moment until it was looked at.
func (a *Commands) one(ctx context.Context, text string) (*api.Snapshot, error) {
	in, err := snapshotOf(text)
	if err != nil {
		return nil, err
	}
	return client.LookedAt(ctx, a.Client(), in)
}

func (a *Commands) show() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "show SNAPSHOT", Short: "Answer the questions about a snapshot",
		Args: term.Arguments("SNAPSHOT"),
		Long: `Say of a snapshot (of a dataset alone: the latest, with a list of them) whether the validation figure can be trusted, whether it is clean, whether the splits are alike, what
changed since the one before, who used it, and how often the test split was looked at.`,
		Example:           "  kembrel data show hydrophone\n  kembrel data show hydrophone#3 --output json",
		ValidArgsFunction: a.completeData,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.one(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if output == "json" {
				return term.WriteJSON(a.Out, s)
			}
			p := a.Line
			p("%s  %s%s", s.Address, term.Many(s.Items, "item", "items"), sizeOf(s))
			p("made %s by %s %s", term.When(s.Created), term.Printable(s.Who), term.Printable(sayMade(s)))
			for _, q := range []struct {
				question,
				answer string
			}{{"Can the validation figure be trusted?", s.Answers.Trust},
				{"Is it clean?", s.Answers.Clean}, {"Are the splits alike?", s.Answers.Alike},
				{"What changed since the one before?", s.Answers.Changed}, {"Who used it?", s.Answers.Used},
				{"How often was the test split looked at?", s.Answers.Looked}} {
				p("\n%s", q.question)
				p("  %s", term.Printable(q.answer))
				if q.question == "Are the splits alike?" && s.Found != nil {
					a.Table(splitTable(s.Found), 2)
				}
				if q.question == "Who used it?" {
					for i, u := range s.Users {
						if i == 8 {
							p("  and %d more", len(s.Users)-8)
							break
						}
						p("  %s for %s  %s  %s", u.Run, u.Use, term.Printable(u.Title), u.State)
					}
				}
			}
			if in, err := snapshotOf(args[0]); err != nil || in.Number > 0 {
				return err
			}
			return a.list(cmd.Context(), s.Dataset)
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

// mostListed is how many snapshots of a dataset are listed.
const mostListed = 20

// list lists the latest snapshots of a dataset that has several.
func (a *Commands) list(ctx context.Context, name string) error {
	page, err := client.Call(ctx, a.Client(), api.ListSnapshots, &api.SnapshotsInput{
		DatasetInput: api.DatasetInput{Dataset: name}, PageInput: api.PageInput{Limit: mostListed}})
	if err != nil || len(page.Items) < 2 {
		return err
	}
	l := term.List("snapshot", "items#", "size#", "made", "by", "of")
	for _, s := range page.Items {
		l.Add(s.Address, api.Thousands(s.Items), api.Bytes(s.Bytes), term.When(s.Created), term.Printable(s.Who),
			term.Printable(sayMade(&s)))
	}
	fmt.Fprintln(a.Out, "\nIts snapshots, the latest first")
	a.Table(l, 2)
	return nil
}

func sayMade(s *api.Snapshot) string {
	switch from := s.Source; from.Kind {
	case "changes":
		return "from " + s.Base + " with the changes of " + from.Name
	case "program":
		return "from what " + term.OrText(from.Run, "a program") + " read"
	default:
		text := "from the " + from.Kind + " " + from.Name
		if from.Host != "" {
			text += " on " + from.Host
		}
		return text
	}
}

// splitTable counts labels by split.
func splitTable(f *dataset.Findings) term.Listing {
	head := []string{"label"}
	for _, s := range f.Splits {
		head = append(head, term.OrText(s.Name, "no split")+"#")
	}
	l := term.List(head...)
	add := func(name string, counts []int64) {
		row := []string{name}
		for i, n := range counts {
			text := api.Thousands(n)
			if total := f.Splits[i].Items; total > 0 && name != "all" {
				text += fmt.Sprintf(" %3.0f%%", 100*float64(n)/float64(total))
			}
			row = append(row, text)
		}
		l.Add(row...)
	}
	for i, x := range f.Labels {
		if i == 12 {
			l.Add(fmt.Sprintf("and %d more", len(f.Labels)-12+f.Others))
			for len(l.Rows[len(l.Rows)-1]) < len(head) {
				l.Rows[len(l.Rows)-1] = append(l.Rows[len(l.Rows)-1], "")
			}
			break
		}
		add(term.Printable(x.Label), x.Items)
	}
	var all []int64
	for _, s := range f.Splits {
		all = append(all, s.Items)
	}
	add("all", all)
	return l
}

func (a *Commands) check() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "check SNAPSHOT",
		Short: "List what is wrong with a snapshot; its exit code says whether its split leaks",
		Args:  term.Arguments("SNAPSHOT"),
		Long: `List what was found in a snapshot: what two splits have in common, and items that are not clean, each with the line that lists them. The exit code is that
of a difference where an item of one split is in another, so that a script can refuse to train on it.`,
		Example:           "  kembrel data check hydrophone#3\n  kembrel data check hydrophone && kembrel record --project vessels -- ./harbour train",
		ValidArgsFunction: a.completeData,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.one(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if s.Found == nil {
				return fmt.Errorf("%s: %s", s.Address, s.Answers.Trust)
			}
			l := term.List("found", "where", "items#", "list them")
			l.Empty = s.Address + ": nothing was found."
			leaking := false
			for _, c := range s.Found.Crossings {
				leaking = leaking || c.Kind != "same-name"
				l.Add(c.Kind, fmt.Sprintf("%s and %s, %s in both", c.Splits[0], c.Splits[1], api.Thousands(c.Shared)),
					api.Thousands(c.Items[0])+" + "+api.Thousands(c.Items[1]), listLine(s.Address, c.Kind))
			}
			for _, t := range s.Found.Tallies {
				l.Add(t.Kind, "", api.Thousands(t.Items), listLine(s.Address, t.Kind))
			}
			if err := a.Print(output, l, s.Found); err != nil {
				return err
			}
			if leaking {
				return term.Differs(fmt.Errorf("%s: its validation figure cannot be trusted", s.Address))
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

func listLine(address, kind string) string {
	return fmt.Sprintf(`kembrel data items %s --where '"%s" in found'`, address, kind)
}

func (a *Commands) diff() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "diff FROM TO", Short: "Say how one snapshot differs from another",
		Args: term.Arguments("FROM", "TO"), Example: "  kembrel data diff hydrophone#1 hydrophone#2",
		ValidArgsFunction: a.completeData,
		RunE: func(cmd *cobra.Command, args []string) error {
			from, err := snapshotOf(args[0])
			if err != nil {
				return err
			}
			to, err := snapshotOf(args[1])
			if err != nil {
				return err
			}
			if from.Dataset != to.Dataset {
				return term.Usage("%s and %s are not of one dataset", args[0], args[1])
			}
			if from.Number == 0 {
				return term.Usage("say which snapshot: %s#1", args[0])
			}
			d, err := client.Call(cmd.Context(), a.Client(), api.GetSnapshotDifference,
				&api.SnapshotDifferenceInput{SnapshotInput: to, From: from.Number})
			if err != nil {
				return err
			}
			l := term.List("change", "items#", "by label", "by group", "first")
			l.Empty, l.Shorten = d.Says, "first"
			for _, c := range dataset.Changes {
				if n := d.Counts[c]; n > 0 {
					by := d.ByLabel[c]
					if c == dataset.Moved {
						by = d.BySplit[c]
					}
					l.Add(string(c), api.Thousands(n), sayBy(by), sayBy(d.ByGroup[c]),
						term.Printable(strings.Join(d.Examples[c][:min(3, len(d.Examples[c]))], " ")))
				}
			}
			for name, what := range d.Columns {
				l.Add("column "+what, "", "", "", term.Printable(name))
			}
			if output == "table" {
				fmt.Fprintln(a.Out, term.Printable(d.Says))
			}
			return a.Print(output, l, d)
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

func sayBy(by []dataset.ByName) string {
	var parts []string
	for _, b := range by[:min(len(by), 3)] {
		parts = append(parts, fmt.Sprintf("%s %s", term.Printable(b.Name), api.Thousands(b.Items)))
	}
	if len(by) > 3 {
		parts = append(parts, "…")
	}
	return strings.Join(parts, ", ")
}

func (a *Commands) items() *cobra.Command {
	var output string
	var files term.Files
	in := &api.ItemsInput{}
	cmd := &cobra.Command{Use: "items SNAPSHOT", Short: "List items of a snapshot, or write them to a file",
		Args: term.Arguments("SNAPSHOT"),
		Long: `List items of a snapshot by key. --where takes the filter language (docs/filter.md) on key, digest, size, split, group, label, labels, target, kept, found,
and your own columns.`,
		Example: `  kembrel data items hydrophone#1 --where 'split == "val" && "same-group" in found' --limit 20
  kembrel data items hydrophone --where 'label == "tug" && depth > 20' --to tugs.csv`,
		ValidArgsFunction: a.completeData,
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := snapshotOf(args[0])
			if err != nil {
				return err
			}
			in.SnapshotInput = at
			if err := files.Check("csv", "jsonl", "parquet"); err != nil {
				return err
			}
			for _, path := range files.Paths {
				if err := term.WriteAnswer(cmd.Context(), a.App, path, api.GetItemsFile, &api.ItemsFileInput{
					SnapshotInput: at, Where: in.Where, Format: term.Kind(path, "csv")}); err != nil {
					return err
				}
			}
			if len(files.Paths) > 0 {
				return nil
			}
			in.Counts = true
			got, err := client.Call(cmd.Context(), a.Client(), api.ListItems, in)
			if err != nil {
				return err
			}
			var own []string
			for _, it := range got.Items {
				for name := range it.Own {
					if !slices.Contains(own, name) {
						own = append(own, name)
					}
				}
			}
			slices.Sort(own)
			head := append([]string{"key", "split", "group", "label", "size#", "found"}, own...)
			l := term.List(head...)
			l.Empty = "No item is like that."
			for _, it := range got.Items {
				label := strings.Join(it.Labels, " + ")
				if it.Target != nil {
					label = term.Number(float64(*it.Target))
				}
				row := []string{term.Printable(it.Key), it.Split, term.Printable(it.Group), term.Printable(label),
					api.Bytes(it.Size), strings.Join(it.Found, ", ")}
				for _, name := range own {
					row = append(row, term.HyperText(it.Own[name]))
				}
				l.Add(row...)
			}
			if err := a.Print(output, l, got); err != nil {
				return err
			}
			if output == "table" && got.Count != nil && *got.Count > int64(len(got.Items)) {
				fmt.Fprintf(a.Err, "%s of %s; --limit shows more, --to writes all\n", api.Thousands(int64(len(got.Items))),
					term.Many(*got.Count, "item", "items"))
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	fl := cmd.Flags()
	fl.StringVar(&in.Where, "where", "", "only items that fulfil this, such as 'split == \"val\"'")
	fl.Int64Var(&in.From, "start", 0, "row to begin at")
	fl.IntVar(&in.Limit, "limit", 50, "at most so many, up to 1000")
	term.FilesFlag(cmd, &files, ".csv, .jsonl or .parquet; all items that fulfil the condition")
	return cmd
}

// sizeOf is what all items of a snapshot come to, where that is known.
func sizeOf(s *api.Snapshot) string {
	if s.Bytes == 0 {
		return ""
	}
	return ", " + api.Bytes(s.Bytes)
}
