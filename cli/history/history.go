package history

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/core/history"
	"kembrel/core/table"
)

// Export makes the command export.
func (a *Commands) Export() *cobra.Command {
	in := &api.HistoryInput{}
	var files term.Files
	cmd := &cobra.Command{Use: "export ADDRESS...",
		Short: "Write curves, or a table of runs, as CSV, JSON, JSON Lines or Parquet",
		Long: `Write the readings of one run, of some runs, or of a whole project; or, with --what runs, a row per run with its hyperparameters and figures.
csv has a row per point and a column per curve; csv-long, json, jsonl and parquet have a row per reading (docs/history.md).`,
		Example: `  kembrel export vessels/3 --to run3.csv
  kembrel export vessels/2 vessels/3 --format jsonl --names loss.val
  kembrel export vessels --format parquet --to vessels.parquet
  kembrel export vessels --what runs --to runs.csv
  kembrel export vessels --what runs --where 'hyper.lr < 0.01' --sort best --columns 'best,hyper.lr' --to best.parquet`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("say what to export: a project or runs of one, such as vessels/3")
			}
			var err error
			if in.Project, in.Runs, err = term.ProjectOrRuns(args); err != nil {
				return err
			}

			check := files.CheckFree
			if in.Format == "" {
				check = func() error { return files.Check("csv", "json", "jsonl", "ndjson", "parquet") }
			} else if !slices.Contains(history.Formats, in.Format) {
				return term.Usage("--format %q is none of %s", in.Format, strings.Join(history.Formats, ", "))
			}
			if err := check(); err != nil {
				return err
			}
			if len(files.Paths) == 0 {
				files.Paths = []string{"-"}
			}
			if in.What != "curves" && in.What != "runs" {
				return term.Usage("--what %q is none of curves, runs", in.What)
			}
			for _, file := range files.Paths {
				in := *in
				if in.Format == "" {
					in.Format = strings.Replace(term.Kind(file, "csv"), "ndjson", "jsonl", 1)
				}
				if err := a.WriteFile(file, func(w io.Writer) error {
					return term.CopyHistory(cmd.Context(), a.Client(), &in, w)
				}); err != nil {
					return err
				}
			}
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&in.Format, "format", "", "csv, csv-long, json, jsonl or parquet; else by the ending of --to, else csv")
	f.StringVar(&in.What, "what", "curves", "curves or runs")
	f.StringSliceVar(&in.Names, "names", nil, "only these curves")
	f.StringVar(&in.Where, "where", "", "of a project: only runs that fulfil this, such as 'hyper.lr <= 0.01'")
	f.StringVar(&in.Sort, "sort", "", "of a project: what to sort runs by, as kembrel runs does")
	f.StringVar(&in.Order, "order", "", "ascending or descending")
	f.StringVar(&in.Columns, "columns", "", "with --what runs: only these values, such as 'best,hyper.lr,took'")
	cmd.RegisterFlagCompletionFunc("where", a.CompleteFilter)
	cmd.RegisterFlagCompletionFunc("names", a.CompleteCurves)
	term.FilesFlag(cmd, &files, ".csv, .json, .jsonl or .parquet; else to the output")
	cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(history.Formats,
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// ImportCommand makes the command import.
func (a *Commands) ImportCommand() *cobra.Command {
	var project, format, title string
	var mappings []string
	var dry, yes bool
	cmd := &cobra.Command{Use: "import FILE --project PROJECT",
		Short: "Bring in runs from a CSV or JSON Lines file that any script has written", Args: term.Arguments("FILE"),
		Long: `Bring in the curves of runs that were trained elsewhere. What the columns are is guessed from their names, shown, and asked about; --map overrules a
guess; "-" is the input. Each run is kept whole or not at all (a very large one goes on where it was cut off), and the same file brings in the same run once.`,
		Example: `  kembrel import history.csv --project vessels --dry-run
  kembrel import history.csv --project vessels --map "val_loss=loss.val" --map "comment=" --yes
  ./convert old.log | kembrel import - --project vessels --title "before the refit" --yes`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := api.CheckProjectKey(project); err != nil {
				return term.Usage("say which project the runs go to (--project): %w", err)
			}
			f, err := a.openFile(args[0], yes || dry)
			if err != nil {
				return err
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			if args[0] == "-" {
				args[0] = "input"
			}
			if format == "" {
				format = table.FormatOf(args[0])
			}
			m := a.Meter("reading", info.Size())
			digest := sha256.New()
			file, runs, err := a.readHistory(cmd, io.TeeReader(f, io.MultiWriter(digest, metered{m})), format,
				mappings, info.ModTime(), args[0])
			m.Done()
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			a.showColumns(file)
			l := term.List("run", "title", "points#", "curves#", "readings#")
			for _, r := range runs {
				readings := 0
				for _, c := range r.Batch.Columns {
					readings += len(c.Values)
				}
				l.Add(term.OrText(r.Run, "(the whole file)"), titleOf(title, r.Run, args[0]),
					fmt.Sprint(len(r.Batch.Axis)), fmt.Sprint(len(r.Names)), fmt.Sprint(readings))
			}
			a.Table(l, 0)
			if dry {
				fmt.Fprintln(a.Out, "Nothing was brought in (--dry-run).")
				return nil
			}
			if !yes {
				ok, err := a.Confirm(fmt.Sprintf("Bring in %d run(s) to %s?", len(runs), project))
				if err != nil || !ok {
					return err
				}
			}
			for _, r := range runs {
				in := toHistory(r)
				in.Project, in.Key = project, uuid.NewSHA1(uuid.NameSpaceURL,
					fmt.Appendf(nil, "%s %x %s", project, digest.Sum(nil), r.Run)).String()
				in.Body.Title, in.Body.Source = titleOf(title, r.Run, args[0]), filepath.Base(args[0])
				run, err := bringIn(cmd.Context(), a.Client(), r, in)
				if err != nil {
					return fmt.Errorf("bring in %s: %w", term.OrText(r.Run, args[0]), err)
				}
				fmt.Fprintf(a.Out, "%s  %s\n", run.Address, term.Printable(run.Title))
			}
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&project, "project", os.Getenv("KEMBREL_PROJECT"), "project of the runs [KEMBREL_PROJECT]")
	f.StringVar(&format, "format", "", "csv or jsonl; else by the file's ending, else by how it begins")
	f.StringVar(&title, "title", "", "title of the runs; else their names in the file, or the file's")
	f.StringArrayVar(&mappings, "map", nil,
		"what a column is: column=curve, column=hyper.NAME, column=step (or epoch, time, run, curve, value), column= to leave it out")
	f.BoolVar(&dry, "dry-run", false, "read and check all of the file, and bring in nothing")
	f.BoolVar(&yes, "yes", false, "do not ask")
	cmd.RegisterFlagCompletionFunc("project", a.Complete(false, false))
	return cmd
}

// openFile opens a file, or, for "-", what is on the input, whole; that nobody can answer a question on it is said.
func (a *Commands) openFile(path string, unasked bool) (*os.File, error) {
	if path != "-" {
		return os.Open(path)
	}
	if !unasked {
		return nil, term.Usage("the file is on the input, so nobody can be asked: --yes brings it in, --dry-run shows what it would be")
	}
	f, err := os.CreateTemp("", "kembrel-import-*")
	if err != nil {
		return nil, err
	}
	os.Remove(f.Name()) // it is there while it is open
	if _, err = io.Copy(f, a.In); err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (a *Commands) readHistory(cmd *cobra.Command, from io.Reader, format string, mappings []string, at time.Time,
	name string) (*history.File, []history.Imported, error) {
	file, err := history.Open(format, from)
	if err != nil {
		if errors.Is(err, io.EOF) {
			err = errors.New("the file is empty")
		}
		return nil, nil, err
	}
	file.Default = at
	for _, text := range mappings {
		column, as, ok := strings.Cut(text, "=")
		if !ok {
			return nil, nil, term.Usage("--map %q is not column=meaning", text)
		}
		if err := file.Set(column, as); err != nil {
			return nil, nil, term.Usage("--map %q: %w", text, err)
		}
	}
	runs, err := file.Read()
	if err != nil {
		a.showColumns(file)
	}
	return file, runs, err
}

func (a *Commands) showColumns(t *history.File) {
	l := term.List("column", "is taken for", "")
	for _, c := range t.Columns {
		as := string(c.Role)
		switch c.Role {
		case history.Values:
			as = "curve " + c.As
		case history.Hyper:
			as = "hyperparameter " + c.As
		}
		l.Add(c.Name, as, c.Why)
	}
	a.Table(l, 0)
	fmt.Fprintln(a.Out)
}

func titleOf(title, run, file string) string {
	return term.OrText(title, term.OrText(run, filepath.Base(file)))
}

// metered counts what passes.
type metered struct{ m *term.Meter }

func (m metered) Write(p []byte) (int, error) {
	m.m.Add(int64(len(p)))
	return len(p), nil
}

func toHistory(r history.Imported) *api.NewHistory {
	in := &api.NewHistory{}
	in.Body.Hyper = r.Hyper
	first, last := r.Batch.Axis[0].Time, r.Batch.Axis[0].Time
	for _, p := range r.Batch.Axis {
		first, last = min(first, p.Time), max(last, p.Time)
	}
	in.Body.Started, in.Body.Ended = time.UnixMilli(first), time.UnixMilli(last)
	return in
}
