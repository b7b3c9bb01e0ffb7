package evaluations

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/recorder"
)

const example = "kembrel evaluate vessels/3@best --data hydrophone#3:test -- ./harbour evaluate"

// Evaluate makes the command evaluate.
func (a *Commands) Evaluate() *cobra.Command {
	var output, data, of string
	var keep []string
	var files term.Files
	var cutoff float64
	var wait time.Duration
	cmd := &cobra.Command{Use: "evaluate CHECKPOINT... -- COMMAND...",
		Short: "Restore a checkpoint, run a program that evaluates it, and keep what it finds",
		Long: `Restore checkpoints into temporary folders, one after another, run a program that evaluates each under a recorder, and keep the figures and predictions that
it hands over as an evaluation of that checkpoint on that data (docs/evaluations.md). The folder stands in place of {folder} in the command, in the variable
KEMBREL_VERIFY_FOLDER, and in what kembrel.evaluation() answers; the data in place of {data} and in KEMBREL_EVALUATE_DATA. What one checkpoint's evaluation fails at costs that alone.`,
		Example: "  " + example + `
  kembrel evaluate vessels/3@best vessels/5@best --data hydrophone#3:test -- python3 evaluate.py {folder}
  kembrel evaluate --of 'best of vessels where "baseline" in tags' --data test -- ./harbour evaluate
  kembrel evaluate vessels/3@best --data hydrophone#4:unseen --to answers.csv --cutoff 0.8 -- ./harbour evaluate`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			n := cmd.ArgsLenAtDash()
			if n < 0 || n == len(args) || n == 0 && of == "" {
				return term.Usage("say which checkpoints, and what to run, behind two hyphens: %s", example)
			}
			if err := files.Check("csv", "jsonl", "parquet"); err != nil {
				return err
			}
			for _, pattern := range keep {
				if err := recorder.CheckKeep(pattern); err != nil {
					return term.Usage("--keep %w", err)
				}
			}
			if !(cutoff >= 0 && cutoff <= 1) {
				return term.Usage("--cutoff %v is none of 0 to 1", cutoff)
			}
			ctx := cmd.Context()
			var points []api.Address
			for _, text := range args[:n] {
				addr, err := a.Checkpoint(ctx, text)
				if err != nil {
					return err
				}
				points = append(points, addr)
			}
			if of != "" {
				more, err := a.chosen(ctx, of)
				if err != nil {
					return err
				}
				points = append(points, more...)
			}
			if len(files.Paths) > 0 && len(points) != 1 {
				return term.Usage("--to writes the answers of one checkpoint; these are %d", len(points))
			}
			r := &evaluating{Commands: a, command: args[n:], data: data, wait: wait, keep: keep}
			if err := r.look(ctx); err != nil {
				return err
			}
			done, failed := r.all(ctx, points)
			for _, path := range files.Paths {
				if len(done) == 1 {
					if err := a.writeAnswers(ctx, done[0], path, cutoff); err != nil {
						return err
					}
				}
			}
			if len(done) > 0 || failed == nil {
				l := listing(done)
				l.Empty = "No checkpoint was chosen."
				if err := a.Print(output, l, map[string]any{"items": term.OrEmpty(done)}); err != nil {
					return err
				}
			}
			return failed
		}}
	a.OutputFlag(cmd, &output)
	f := cmd.Flags()
	f.StringVar(&data, "data", "",
		"on what: the split of a snapshot, such as hydrophone#3:test, or what the run used data for, such as val")
	f.StringVar(&of, "of", "", "which checkpoints: 'best of PROJECT where FILTER', or last, or e12 (docs/filter.md)")
	f.Float64Var(&cutoff, "cutoff", 0, "with --to: leave answers out whose score is below this")
	f.StringArrayVar(&keep, "keep", nil,
		"files that the program writes and that are kept with the evaluation, such as 'out/*.csv'; may be given many times")
	f.DurationVar(&wait, "wait", 10*time.Second,
		"how long to wait, once the program has ended, for a service that does not answer")
	term.FilesFlag(cmd, &files, ".csv, .jsonl or .parquet, of the answers to each example")
	return cmd
}

var ofPattern = regexp.MustCompile(`^\s*(\S+)\s+of\s+([a-z0-9-]+)(?:\s+where\s+(.+))?\s*$`)

// chosen lists the checkpoints of the runs that a filter lets through.
func (a *Commands) chosen(ctx context.Context, of string) ([]api.Address, error) {
	m := ofPattern.FindStringSubmatch(of)
	if m == nil {
		return nil, term.Usage("--of %q is none; write --of 'best of vessels where best(\"loss.val\") < 0.3'", of)
	}
	at, err := api.ParseAt(m[1])
	if err == nil {
		err = api.CheckProjectKey(m[2])
	}
	if err != nil {
		return nil, term.Usage("--of: %w", err)
	}
	in := &api.RunsInput{ProjectInput: api.ProjectInput{Project: m[2]}, PageInput: api.PageInput{Limit: 500},
		RunChoice: api.RunChoice{Where: m[3]}}
	runs, err := client.All(ctx, a.Client(), api.ListRuns, in,
		func(in *api.RunsInput, cursor string) { in.Cursor = cursor })
	var out []api.Address
	for _, r := range slices.Backward(runs) { // the oldest first
		out = append(out, api.Address{Project: r.Project, Run: r.Number, At: at})
	}
	return out, err
}

// evaluating runs one program on checkpoints.
type evaluating struct {
	*Commands
	command     []string
	data, split string
	verify      *api.Float
	wait        time.Duration
	keep        []string
}

// look finds the data that was named, so that what is wrong with it is said before anything is run.
func (r *evaluating) look(ctx context.Context) error {
	if r.data == "" {
		return nil
	}
	if api.CheckUse(r.data) == nil { // what the run used for it is known to the service
		r.split = r.data
		return nil
	}
	at, err := api.ParseData(r.data)
	if err != nil {
		return term.Usage("--data: %w", err)
	}
	s, err := client.Call(ctx, r.Client(), api.GetSnapshot,
		&api.SnapshotInput{DatasetInput: api.DatasetInput{Dataset: at.Dataset}, Number: at.Number})
	if err != nil {
		return err
	}
	at.Number = s.Number // as it is now, for all
	var names []string
	if s.Found != nil {
		for _, c := range s.Found.Splits {
			names = append(names, c.Name)
		}
	}
	if at.Split != "" && names != nil && !slices.Contains(names, at.Split) {
		return term.Exit{Code: term.ExitNotFound, Err: fmt.Errorf("%s#%d has no split %s; it has %s", at.Dataset,
			at.Number, at.Split, strings.Join(names, ", "))}
	}
	r.data, r.split = at.String(), at.Split
	return nil
}

// all evaluates checkpoints one after another. What one fails at is said, and costs that alone.
func (r *evaluating) all(ctx context.Context, points []api.Address) (done []api.Evaluation, failed error) {
	failures := 0
	for i, p := range points {
		if len(points) > 1 {
			fmt.Fprintf(r.Err, "kembrel: evaluating %d of %d: %s\n", i+1, len(points), p)
		}
		e, err := r.one(ctx, p)
		if err == nil {
			done = append(done, *e)
			continue
		}
		if ctx.Err() != nil || len(points) == 1 {
			return done, err
		}
		failures++
		failed = fmt.Errorf("%d of %d evaluations failed", failures, len(points))
		fmt.Fprintf(r.Err, "kembrel: %s: %v\n", p, err)
	}
	return done, failed
}

// one evaluates one checkpoint.
func (r *evaluating) one(ctx context.Context, addr api.Address) (*api.Evaluation, error) {
	run := term.RunOf(addr)
	c, err := client.Call(ctx, r.Client(), api.GetCheckpoint, &api.CheckpointInput{RunInput: run, At: addr.At.String()})
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "kembrel-evaluate-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	m := r.Meter(c.Address, c.Size)
	err = client.Restore(ctx, r.Client(), api.CheckpointInput{RunInput: run, At: c.Fixed()}, c.Files, folder, false,
		m.Add)
	m.Done()
	if err != nil {
		return nil, err
	}
	command := slices.Clone(r.command)
	for i := range command {
		command[i] = strings.NewReplacer("{folder}", folder, "{data}", r.data).Replace(command[i])
	}
	o := r.RecorderOptions()
	o.Out, o.Wait, o.Keep = term.Raw(r.Err), r.wait, r.keep
	e, code, err := recorder.Evaluate(ctx, o, recorder.Evaluating{Run: run, Checkpoint: c, Folder: folder,
		Data: r.data, Split: r.split, Verify: r.verify}, command)
	if err == nil && code != 0 {
		err = fmt.Errorf("the evaluation ended with exit code %d; nothing is kept", code)
	}
	return e, err
}

// writeAnswers writes the answers of an evaluation into a file.
func (a *Commands) writeAnswers(ctx context.Context, e api.Evaluation, path string, cutoff float64) error {
	if len(e.Sheets) == 0 {
		return errors.New("the evaluation handed over no predictions, so there is nothing to write")
	}
	addr, err := api.ParseAddress(e.Run)
	if err != nil {
		return err
	}
	return term.WriteAnswer(ctx, a.App, path, api.GetExamplesFile, &api.ExamplesFileInput{
		SheetInput: api.SheetInput{RunInput: term.RunOf(addr), Sheet: e.Sheets[0].Number},
		Format:     term.Kind(path, "csv"), Cutoff: cutoff})
}
