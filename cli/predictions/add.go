package predictions

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/sheet"
	"kembrel/core/sheet/intake"
	"kembrel/core/table"
)

// adding is what the command add was given.
type adding struct {
	run, at, split, task, output string
	epoch                        float64
	classes, mappings            []string
	yes, scores, dry             bool
}

func (a *Commands) add() *cobra.Command {
	var f adding
	cmd := &cobra.Command{Use: "add FILE", Short: "Add a prediction sheet that another program wrote to a run",
		Args: term.Arguments("FILE"),
		Long: `Add a table of predictions (CSV, JSON Lines or Parquet) to a run, for one of its checkpoints or for an epoch. Columns are recognised by their names (key, true, predicted, group, text,
score.CLASS) and shown; --map says it otherwise: COLUMN=key, true, predicted, score:CLASS, group, text,
	own or leave. What is no such column is kept as one of your own.`,
		Example: `  kembrel predictions add answers.csv --run vessels/3 --at @best --split test
  kembrel predictions add answers.parquet --run vessels/3 --epoch 12 --map vessel=true --map p1=score:tug --map p2=score:ferry --yes`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.at == "" && f.epoch < 0 {
				return term.Usage("say for which checkpoint (--at @best) or epoch (--epoch 12) the predictions are")
			}
			if err := api.CheckUse(f.split); err != nil {
				return term.Usage("--split: %w", err)
			}
			made, err := a.read(args[0], f)
			if err != nil || made == nil {
				return err
			}
			s, err := a.send(cmd.Context(), args[0], made, f)
			if err != nil {
				return err
			}
			if f.output == "json" {
				return term.WriteJSON(a.Out, s)
			}
			fmt.Fprintf(a.Out, "%s, sheet %d: %s\n", s.Run, s.Number, term.Printable(s.Says))
			for _, x := range s.Alarms {
				fmt.Fprintf(a.Out, "! %s\n", term.Printable(x.Says))
			}
			return nil
		}}
	fl := cmd.Flags()
	fl.StringVar(&f.run, "run", "", "of which run, such as vessels/3")
	fl.StringVar(&f.at, "at", "", "of which of its checkpoints, such as @best or @e12")
	fl.Float64Var(&f.epoch, "epoch", -1, "at which epoch, instead of a checkpoint")
	fl.StringVar(&f.split, "split", "val", "of which split")
	fl.StringVar(&f.task, "task", "",
		"classes, labels (several, with ; between them), number or text, instead of what the values look like")
	fl.StringSliceVar(&f.classes, "classes", nil, "names of the classes, in the order of places 0, 1, ...")
	fl.StringArrayVar(&f.mappings, "map", nil, "what a column is: COLUMN=MEANING")
	fl.BoolVar(&f.scores, "any-scores", false, "scores are no probabilities, whatever they look like")
	fl.BoolVar(&f.yes, "yes", false, "do not ask whether the columns are what they are taken for")
	fl.BoolVar(&f.dry, "dry-run", false, "read the table, and add nothing")
	cmd.MarkFlagRequired("run")
	cmd.RegisterFlagCompletionFunc("run", a.Complete(true, false))
	cmd.RegisterFlagCompletionFunc("task", cobra.FixedCompletions([]string{"classes", "labels", "number", "text"},
		cobra.ShellCompDirectiveNoFileComp))
	a.OutputFlag(cmd, &f.output)
	return cmd
}

// read reads the table; nil where whoever was asked said no, or nothing is to be added.
func (a *Commands) read(path string, f adding) (*intake.Made, error) {
	format := table.FormatOf(path)
	if format == "" {
		return nil, term.Usage("%s: tables end in .csv, .jsonl or .parquet", path)
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	from, err := table.Open(format, file, table.Options{})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	t := intake.NewTable(from)
	for _, text := range f.mappings {
		column, as, ok := strings.Cut(text, "=")
		if !ok {
			return nil, term.Usage("--map %q is not column=meaning", text)
		}
		if err := t.Set(column, as); err != nil {
			return nil, term.Usage("--map %q: %w", text, err)
		}
	}
	if f.output != "json" {
		showMeanings(a, t)
	}
	if !f.dry && !f.yes {
		if ok, err := a.Confirm("Are the columns what they are taken for?"); err != nil || !ok {
			return nil, err
		}
	}
	made, err := t.Make(sheet.Task(f.task), f.classes)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if made.Rows && f.output != "json" {
		fmt.Fprintln(a.Err, "no column is the key of examples; they are called by their rows: 1, 2, ...")
	}
	if f.scores {
		no := false
		made.Probabilities = &no
	}
	if f.dry {
		// what the service would refuse is told here
		files := map[string]sheet.File{}
		for name, content := range made.Files {
			files[name] = bytes.NewReader(content)
		}
		if _, err := sheet.Read(made.Says, files); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		fmt.Fprintf(a.Out, "%s. Nothing was added (--dry-run).\n", term.Many(int64(made.Count), "example", "examples"))
		return nil, nil
	}
	return made, nil
}

func showMeanings(a *Commands, t *intake.Table) {
	l := term.List("column", "is taken for")
	for _, m := range t.Meanings {
		as := string(m.Role)
		switch m.Role {
		case intake.ScoreRole:
			as = "the score of " + term.Printable(m.Class)
		case intake.OwnRole:
			if as = "a column of your own"; m.As != m.Name {
				as += ", called " + m.As
			}
		case intake.LeaveRole:
			as = "nothing; it is left out"
		}
		l.Add(term.Printable(m.Name), as)
	}
	a.Table(l, 0)
}

// send sends a sheet.
func (a *Commands) send(ctx context.Context, path string, made *intake.Made, f adding) (*api.Sheet, error) {
	addr, err := term.Address(f.run, true, false)
	if err != nil {
		return nil, err
	}
	in := &api.NewSheet{RunInput: term.RunOf(addr), Key: uuid.NewString()}
	in.Body.Says, in.Body.Split, in.Body.Source = made.Says, f.split, filepath.Base(path)
	in.Body.Epoch, in.Body.Step = api.Float(f.epoch), int64(f.epoch)
	c := a.Client()
	if f.at != "" {
		at, err := term.Address(addr.String()+"@"+strings.TrimPrefix(f.at, "@"), true, true)
		if err != nil {
			return nil, err
		}
		found, err := client.Call(ctx, c, api.GetCheckpoint, &api.CheckpointInput{RunInput: in.RunInput,
			At: at.At.String()})
		if err != nil {
			return nil, err
		}
		in.Body.Step, in.Body.Epoch = found.Step, found.Epoch
	} else if f.epoch != float64(int64(f.epoch)) {
		return nil, term.Usage("--epoch %v is not whole; name a checkpoint (--at @e12)", f.epoch)
	}
	for try := 0; ; try++ {
		in.Body.Files = nil
		for name, content := range made.Files {
			file, err := client.SendFile(ctx, c, name, bytes.NewReader(content))
			if err != nil {
				return nil, err
			}
			file.Part = "sheet"
			in.Body.Files = append(in.Body.Files, file)
		}
		s, err := client.AddSheet(ctx, c, in, func(s *api.Sheet) {
			fmt.Fprintf(a.Err, "Assessing the sheet: %.0f %%. The service finishes it even if you interrupt this command.\n",
				100*s.Progress)
		})
		if err == nil || try == 2 || !api.Is(err, api.Conflict) { // chunks may have been cleaned away meanwhile
			return s, err
		}
	}
}
