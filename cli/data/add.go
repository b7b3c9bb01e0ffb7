package data

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/core/dataset"
	"kembrel/core/dataset/intake"
)

// adding says how a snapshot is made.
type adding struct {
	from, table, pattern, change string
	mappings                     []string
	keep, dry, yes               bool
	output                       string
}

func (a *Commands) add() *cobra.Command {
	var f adding
	cmd := &cobra.Command{Use: "add DATASET",
		Short: "Make a snapshot of a folder, a table, or an earlier one with changes",
		Args:  term.Arguments("DATASET"),
		Long: `Make a snapshot: an immutable table of items, each with its key, digest, split, group and label. With --from every file of a folder is an item;
with --table every row of a table (CSV, JSON Lines, Parquet) is one, or names a file. What the columns of a table are is guessed from their names, shown, and asked about;
--map overrules a guess. The same items make the same snapshot, whoever adds them again (docs/data.md).

--change takes an earlier snapshot and a table with a column of keys: rows change the items of these keys in the columns that the table has (split, group, label, your
own), add those that are not there, and leave out those whose column "gone" says yes.`,
		Example: `  kembrel data add hydrophone --from clips --split-from-path '(?P<split>train|val|test)/(?P<group>voyage\d+)/(?P<label>[a-z-]+)_.*\.npy'
  kembrel data add hydrophone --table items.csv --map voyage=group --dry-run
  kembrel data add hydrophone --change hydrophone#3 --table relabelled.csv --yes`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := api.CheckDatasetName(args[0]); err != nil {
				return term.Usage("%w", err)
			}
			switch {
			case f.change != "" && (f.table == "" || f.from != ""):
				return term.Usage("--change takes a --table with the changes")
			case f.from == "" && f.table == "":
				return term.Usage("say what the snapshot is made of: --from FOLDER, or --table FILE")
			case f.table != "" && f.pattern != "":
				return term.Usage("--split-from-path takes paths of a folder apart; a --table has columns for that")
			case f.output != "table" && f.output != "json":
				return term.Usage("--output %q is none of table, json", f.output)
			}
			made, err := a.make(cmd.Context(), args[0], f)
			if err != nil || made == nil {
				return err
			}
			if f.output == "json" {
				return term.WriteJSON(a.Out, made)
			}
			if made.Existed {
				fmt.Fprintf(a.Out, "%s has these items already; nothing new was made.\n", made.Address)
				if f.keep && made.Kept == 0 {
					fmt.Fprintln(a.Out, "It was made without --keep-bytes, and keeps none of its bytes now either.")
				}
			} else {
				fmt.Fprintf(a.Out, "%s  %s, %s\n", made.Address, term.Many(made.Items, "item", "items"),
					api.Bytes(made.Bytes))
			}
			fmt.Fprintf(a.Out, "kembrel data show %s says whether its split can be trusted.\n", made.Address)
			return nil
		}}
	fl := cmd.Flags()
	fl.StringVar(&f.from, "from", "",
		"folder whose files are the items; with --table, the folder that its paths start from")
	fl.StringVar(&f.table, "table", "", "table whose rows are the items: .csv, .jsonl or .parquet")
	fl.StringVar(&f.pattern, "split-from-path", "",
		"pattern over the path with named groups: split, group, label; others become columns")
	fl.StringArrayVar(&f.mappings, "map", nil,
		"what a column is: column=key (or file, split, group, label, size, digest, gone, text, number, boolean), column= to leave it out")
	fl.BoolVar(&f.keep, "keep-bytes", false, "also store the bytes of files, once however many snapshots have them")
	fl.StringVar(&f.change, "change", "", "snapshot that the table changes, such as hydrophone#3")
	fl.BoolVar(&f.dry, "dry-run", false, "read and check everything, and make nothing")
	fl.BoolVar(&f.yes, "yes", false, "do not ask")
	fl.StringVarP(&f.output, "output", "o", "table", "table, or json: the snapshot")
	return cmd
}

func (a *Commands) make(ctx context.Context, name string, f adding) (*api.Snapshot, error) {
	host, _ := os.Hostname()
	in := &api.NewDraft{DatasetInput: api.DatasetInput{Dataset: name}}
	in.Body.Source = api.SnapshotSource{Kind: "folder", Host: host, Pattern: f.pattern}
	if f.table != "" {
		return a.fromTable(ctx, in, f)
	}
	folder, err := filepath.Abs(f.from)
	if err != nil {
		return nil, err
	}
	in.Body.Source.Name = folder
	var pattern *intake.Pattern
	if f.pattern != "" {
		if pattern, err = intake.ParsePattern(f.pattern); err != nil {
			return nil, term.Usage("--split-from-path: %w", err)
		}
		in.Body.Columns = pattern.Columns
	}
	found, left, err := list(folder, pattern)
	if err != nil {
		return nil, err
	}
	for _, l := range left {
		fmt.Fprintln(a.Err, term.Printable(l))
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%s has no file that would be an item", f.from)
	}
	if f.dry {
		a.showSplits(found)
		fmt.Fprintln(a.Out, "Nothing was made (--dry-run).")
		return nil, nil
	}
	w, err := a.begin(ctx, in, f.keep)
	if err != nil {
		return nil, err
	}
	total := int64(0)
	for _, x := range found {
		total += x.size
	}
	m := a.Meter("reading "+folder, total)
	err = w.files(ctx, m, func(take func(dataset.Item, string) error) error {
		for _, x := range found {
			if err := take(x.item, filepath.Join(folder, filepath.FromSlash(x.item.Key))); err != nil {
				return err
			}
		}
		return nil
	})
	m.Done()
	if err != nil {
		return nil, err
	}
	return a.commit(ctx, w)
}
