package files

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Files makes the command files with those below it.
func (a *Commands) Files() *cobra.Command {
	var output string
	var of int
	var own bool
	cmd := &cobra.Command{Use: "files RUN", Short: "List the files that a run wrote and that are no checkpoints",
		Args: term.Arguments("RUN"),
		Long: `List the files that a run or its evaluations wrote and that are no checkpoints: reports, tables, pictures. A program hands them over (run.file), or
kembrel record --keep 'out/*.csv' does at its end (docs/files.md).`,
		Example: `  kembrel files vessels/3
  kembrel files show vessels/3 out/results.csv
  kembrel files diff vessels/3 vessels/8`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := a.list(cmd.Context(), args[0], of, own)
			if err != nil {
				return err
			}
			l := term.List("path", "kind", "size#", "written", "leg#", "evaluation#", "who", "")
			l.Empty = args[0] + " wrote no file that was kept (docs/files.md)."
			for _, f := range all {
				leg, evaluation, gone := "", "", ""
				if f.Leg > 0 {
					leg = fmt.Sprint(f.Leg)
				}
				if f.Of > 0 {
					evaluation = fmt.Sprint(f.Of)
				}
				if f.Dropped != nil {
					gone = "dropped " + term.When(*f.Dropped)
				}
				l.Add(f.Path, f.Kind, api.Bytes(f.Size), term.When(f.Written), leg, evaluation, f.Who, gone)
			}
			return a.Print(output, l, map[string]any{"items": term.OrEmpty(all)})
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().IntVar(&of, "evaluation", 0, "only those of this evaluation")
	cmd.Flags().BoolVar(&own, "own", false, "only those of the run itself, not of its evaluations")
	cmd.AddCommand(a.show(), a.restore(), a.diff(), a.addFiles(), a.drop(), a.rule())
	return cmd
}

// list lists the files of a run: of an evaluation, of the run itself (own), or all.
func (a *Commands) list(ctx context.Context, run string, of int, own bool) ([]api.RunFile, error) {
	addr, err := term.Address(run, true, false)
	if err != nil {
		return nil, err
	}
	in := &api.RunFilesInput{RunInput: term.RunOf(addr), Of: of, Own: own, PageInput: api.PageInput{Limit: 500}}
	return client.All(ctx, a.Client(), api.ListRunFiles, in,
		func(in *api.RunFilesInput, cursor string) { in.Cursor = cursor })
}

func (a *Commands) show() *cobra.Command {
	var output string
	in := &api.RunFileViewInput{}
	cmd := &cobra.Command{Use: "show RUN PATH", Short: "Show lines of a text or rows of a table that a run wrote",
		Args: term.Arguments("RUN", "PATH"),
		Example: `  kembrel files show vessels/3 out/results.csv
  kembrel files show vessels/3 report.txt --search ferry`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			in.RunInput, in.Path = term.RunOf(addr), args[1]
			v, err := client.Call(cmd.Context(), a.Client(), api.ViewRunFile, in)
			if err != nil {
				return err
			}
			switch {
			case output == "json":
				return term.WriteJSON(a.Out, v)
			case v.Kind == "table":
				head := []string{"line#"}
				l := term.List(append(head, v.Columns...)...)
				for _, r := range v.Rows {
					l.Add(append([]string{fmt.Sprint(r.Line)}, append(r.Cells, make([]string, max(0,
						len(v.Columns)-len(r.Cells)))...)...)...)
				}
				l.Empty = "No row."
				if err := a.Print(output, l, v); err != nil {
					return err
				}
			case v.Kind == "text":
				for _, r := range v.Rows {
					fmt.Fprintln(a.Out, term.Printable(r.Cells[0]))
				}
			default:
				return fmt.Errorf("%s is no text and no table (%s, %s); kembrel files restore %s %s --into FOLDER writes it",
					v.Path, v.Kind, api.Bytes(v.Size), args[0], args[1])
			}
			if v.More {
				fmt.Fprintf(a.Err, "kembrel: there is more; --from %d goes on\n", in.From+len(v.Rows))
			}
			if v.Cut != "" {
				fmt.Fprintf(a.Err, "kembrel: %s\n", term.Printable(v.Cut))
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	f := cmd.Flags()
	f.StringVar(&in.Search, "search", "", "only lines or rows that have this in them")
	f.IntVar(&in.From, "from", 0, "how many to leave out")
	f.IntVar(&in.Limit, "limit", 500, "at most so many, up to 5000")
	f.IntVar(&in.Of, "evaluation", 0, "of this evaluation, instead of the run itself")
	return cmd
}

func (a *Commands) restore() *cobra.Command {
	var into string
	var overwrite bool
	of := 0
	cmd := &cobra.Command{Use: "restore RUN [PATTERN...] --into FOLDER",
		Short: "Write files that a run wrote into a folder, verified", Args: cobra.MinimumNArgs(1),
		Example: `  kembrel files restore vessels/3 --into out
  kembrel files restore vessels/3 'report/**' --into out`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if into == "" {
				return term.Usage("say where to write them: --into FOLDER")
			}
			for _, p := range args[1:] {
				if !doublestar.ValidatePattern(p) {
					return term.Usage("%q is no pattern of files, such as 'out/*.csv'", p)
				}
			}
			all, err := a.list(cmd.Context(), args[0], of, of == 0)
			if err != nil {
				return err
			}
			written, gone := 0, 0
			for _, f := range all {
				if !matches(f.Path, args[1:]) {
					continue
				}
				if f.Dropped != nil {
					gone++
					continue
				}
				if err := a.write(cmd.Context(), f, into, overwrite); err != nil {
					return err
				}
				written++
			}
			if gone > 0 {
				fmt.Fprintf(a.Err, "kembrel: the bytes of %s are gone\n", term.Many(int64(gone), "file", "files"))
			}
			if written == 0 {
				return term.Exit{Code: term.ExitNotFound, Err: fmt.Errorf("%s has no such file to write", args[0])}
			}
			fmt.Fprintf(a.Out, "%s in %s\n", term.Many(int64(written), "file", "files"), into)
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&into, "into", "", "folder to write into")
	f.BoolVar(&overwrite, "overwrite", false, "replace files that are there")
	f.IntVar(&of, "evaluation", 0, "of this evaluation, instead of the run itself")
	return cmd
}

func matches(path string, patterns []string) bool {
	for _, p := range patterns {
		if ok, _ := doublestar.Match(p, path); ok {
			return true
		}
	}
	return len(patterns) == 0
}

// write writes a file below a folder, whole and as its digest says, or not at all.
func (a *Commands) write(ctx context.Context, f api.RunFile, into string, overwrite bool) error {
	addr, err := api.ParseAddress(f.Run)
	if err != nil {
		return err
	}
	return a.WriteVerified(into, f.Path, f.Digest, overwrite, func() (io.ReadCloser, error) {
		return client.Stream(ctx, a.Client(), api.GetRunFile, &api.RunFileContentInput{
			RunFileInput: api.RunFileInput{RunInput: term.RunOf(addr), Path: f.Path, Of: f.Of}})
	})
}

func (a *Commands) diff() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "diff RUN OTHER [PATH]", Short: "Say which files of two runs differ, or how a text does",
		Args: cobra.RangeArgs(2, 3),
		Example: `  kembrel files diff vessels/3 vessels/8
  kembrel files diff vessels/3 vessels/8 report.txt`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			if _, err := term.Address(args[1], true, false); err != nil {
				return err
			}
			in := &api.RunFilesDifferenceInput{RunInput: term.RunOf(addr), Run: args[1]}
			if len(args) > 2 {
				in.Path = args[2]
			}
			d, err := client.Call(cmd.Context(), a.Client(), api.GetRunFilesDifference, in)
			if err != nil {
				return err
			}
			if d.Patch != "" && output == "table" {
				for _, line := range strings.Split(strings.TrimSuffix(d.Patch, "\n"), "\n") {
					fmt.Fprintln(a.Out, term.Printable(line))
				}
				return nil
			}
			l := term.List("path", "", "before#", "after#")
			l.Empty = d.Says
			size := func(f *api.RunFile) string {
				if f == nil {
					return ""
				}
				return api.Bytes(f.Size)
			}
			for _, f := range d.Files {
				l.Add(f.Path, f.State, size(f.Before), size(f.After))
			}
			return a.Print(output, l, d)
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

func (a *Commands) addFiles() *cobra.Command {
	return &cobra.Command{Use: "add RUN FILE...", Short: "Add files to a run that was recorded already",
		Args: cobra.MinimumNArgs(2), Example: "  kembrel files add vessels/3 report.txt",
		Long: `Add files to a run that was recorded already. A file below this folder keeps its path; any other goes by its name. One of
the same path takes the place of the one before.`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			for _, path := range args[1:] {
				if err := a.add(cmd.Context(), term.RunOf(addr), path); err != nil {
					return err
				}
			}
			return nil
		}}
}

func (a *Commands) add(ctx context.Context, run api.RunInput, path string) error {
	in := &api.NewRunFile{RunInput: run, Key: uuid.NewString()}
	var err error
	if in.Body.File, err = a.SendFile(ctx, path); err != nil {
		return err
	}
	made, err := client.Call(ctx, a.Client(), api.AddRunFile, in)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s: %s, %s, %s\n", made.Run, term.Printable(made.Path), made.Kind, api.Bytes(made.Size))
	return nil
}

func (a *Commands) drop() *cobra.Command {
	of := 0
	cmd := &cobra.Command{Use: "drop RUN PATH...", Short: "Let the bytes of files go", Args: cobra.MinimumNArgs(2),
		Long:              `Let the bytes of files go that a run wrote. Path, digest and length stay known.`,
		Example:           "  kembrel files drop vessels/3 out/large.bin",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			for _, path := range args[1:] {
				if _, err := client.Call(cmd.Context(), a.Client(), api.DropRunFile,
					&api.RunFileInput{RunInput: term.RunOf(addr), Path: path, Of: of}); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s: the bytes of %s are gone\n", addr, term.Printable(path))
			}
			return nil
		}}
	cmd.Flags().IntVar(&of, "evaluation", 0, "of this evaluation, instead of the run itself")
	return cmd
}

func (a *Commands) rule() *cobra.Command {
	var days float64
	var undo bool
	cmd := &cobra.Command{Use: "rule PROJECT", Short: "Say, or set, how long files of a project's runs stay",
		Args: term.Arguments("PROJECT"),
		Long: `Say how long files of a project's runs stay, or set it with --days. Files of runs that are going on, or that have a pinned checkpoint, stay longer. Without a
rule they stay as long as their run.`,
		Example: `  kembrel files rule vessels
  kembrel files rule vessels --days 90
  kembrel files rule vessels --undo`,
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], false, false)
			if err != nil {
				return err
			}
			ctx, in := cmd.Context(), term.ProjectOf(addr)
			if undo {
				if _, err := client.Call(ctx, a.Client(), api.DropFileRule, &in); err != nil {
					return err
				}
			} else if cmd.Flags().Changed("days") {
				if _, err := client.Call(ctx, a.Client(), api.SetFileRule,
					&api.NewFileRule{ProjectInput: in, Body: api.FileRule{Days: days}}); err != nil {
					return err
				}
			}
			r, err := client.Call(ctx, a.Client(), api.GetFileRule, &in)
			if err != nil {
				return err
			}
			if r.Rule == nil {
				fmt.Fprintf(a.Out, "%s: files stay as long as their run\n", addr)
				return nil
			}
			fmt.Fprintf(a.Out, "%s: files go %v days after they were written\n", addr, r.Rule.Days)
			return nil
		}}
	cmd.Flags().Float64Var(&days, "days", 0, "let files go so many days after they were written")
	cmd.Flags().BoolVar(&undo, "undo", false, "let them stay")
	return cmd
}
