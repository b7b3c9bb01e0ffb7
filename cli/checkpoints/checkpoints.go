package checkpoints

import (
	"context"
	"fmt"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/catalogue"
	"kembrel/core/checkpoint"
)

// Checkpoints makes the command checkpoints.
func (a *Commands) Checkpoints() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "checkpoints RUN", Short: "List the checkpoints of a run, latest first",
		Args:              term.Arguments("RUN"),
		Example:           "  kembrel checkpoints vessels/3",
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, false)
			if err != nil {
				return err
			}
			in := term.RunOf(addr)
			page, err := client.Call(cmd.Context(), a.Client(), api.ListCheckpoints, &in)
			if err != nil {
				return err
			}
			l := term.List("checkpoint", "", "why", "step#", "usable for", "parts", "size#", "saved", "figures")
			l.Shorten, l.Spare = "figures", []string{"parts", "why", "step", "saved"}
			l.Empty = fmt.Sprintf("%s has no checkpoint.", addr)
			for _, c := range page.Items {
				l.Add(c.Address, strings.Join(term.MarksOf(c), " "), c.Why, fmt.Sprint(c.Step), c.UsableFor,
					strings.Join(c.Parts, " "), api.Bytes(c.Size), term.When(c.Saved), figuresLine(c.Figures))
			}
			return a.Print(output, l, page)
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

func figuresLine(figures map[string]api.Float) string {
	names := make([]string, 0, len(figures))
	for n := range figures {
		if strings.HasSuffix(n, ".val") {
			names = append(names, n)
		}
	}
	sort.Strings(names)
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = n + "=" + term.Number(float64(figures[n]))
	}
	return strings.Join(parts, " ")
}

// advise says what whoever restores a checkpoint of a run should know of it: what it was trained on, and what is wrong
// with its data and its answers. The files are there all the same, so what cannot be asked is not said.
func (a *Commands) advise(ctx context.Context, in api.RunInput) {
	r, err := client.Call(ctx, a.Client(), api.GetRun, &in)
	if err != nil {
		return
	}
	for _, u := range r.Data {
		if u.Use == "train" && u.Data != "" {
			fmt.Fprintf(a.Err, "It was trained on %s.\n", u.Data)
		}
	}
	for _, w := range r.Warnings {
		fmt.Fprintf(a.Err, "! %s\n", term.Printable(w))
	}
	if len(r.Alarms) > 0 {
		fmt.Fprintf(a.Err, "! Its predictions raise %s (kembrel predictions show %s).\n", strings.Join(r.Alarms, ", "),
			r.Address)
	}
}

// Restore makes the command restore.
func (a *Commands) Restore() *cobra.Command {
	var into, output string
	var parts []string
	var overwrite, onlyUse bool
	cmd := &cobra.Command{Use: "restore CHECKPOINT|EDITION",
		Short: "Write the files of a checkpoint or an edition, whole and verified, or nothing",
		Args:  term.Arguments("CHECKPOINT|EDITION"),
		Long: `Write the files of a checkpoint, or of an edition of the catalogue, into a folder. Every chunk and every file is checked against its digest. The files appear
together once all of them are complete; if anything fails, none does, and the same command goes on from what has arrived. A file that is there already is
not replaced without --overwrite. --for-use leaves out what only resuming needs: optimiser, schedule, random, position, training.`,
		Example: `  kembrel restore vessels/3@best --into model
  kembrel restore vessel-classifier/in-use --for-use --into model
  kembrel restore vessels/3@e12 --into model --parts weights,architecture`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if into == "" {
				return term.Usage("say where to: --into FOLDER")
			}
			if onlyUse && len(parts) > 0 {
				return term.Usage("--for-use and --parts say two different things; give one of them")
			}
			from, err := a.restorable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			for _, p := range from.parts {
				if onlyUse && !checkpoint.OnlyToResume(p) {
					parts = append(parts, p)
				}
			}
			files, err := from.chosen(parts)
			if err != nil {
				return err
			}
			var total int64
			for _, f := range files {
				total += f.Size
			}
			if output == "table" {
				fmt.Fprintf(a.Err, "%s: %s of %s in %d files\n", from.address, api.Bytes(total), api.Bytes(from.size),
					len(files))
			}
			m := a.Meter(from.address, total)
			err = client.RestoreFrom(cmd.Context(), from.source, files, into, overwrite, m.Add)
			m.Done()
			if err != nil {
				return restoreError(err)
			}
			l := term.List("part", "file", "size#", "digest")
			for _, f := range files {
				l.Add(f.Part, into+"/"+f.Path, api.Bytes(f.Size), f.Digest)
			}
			if err := a.Print(output, l, from.whole(files)); err != nil {
				return err
			}
			if output == "table" {
				fmt.Fprintf(a.Out, "%s: %d files, %s, every digest checked\n", from.address, len(files),
					api.Bytes(total))
				if from.run != nil {
					a.advise(cmd.Context(), *from.run)
				}
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	cmd.Flags().StringVar(&into, "into", "", "folder to write into; created if it is not there")
	cmd.Flags().StringSliceVar(&parts, "parts", nil, "only these parts, such as weights,architecture")
	cmd.RegisterFlagCompletionFunc("parts", a.CompleteParts)
	cmd.Flags().BoolVar(&onlyUse, "for-use", false, "only the parts that using the model needs")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "replace files that are there")
	return cmd
}

// restorable is what can be restored: a checkpoint or an edition.
type restorable struct {
	address string
	parts   []string
	files   []api.File
	size    int64
	source  client.Source
	run     *api.RunInput              // of a checkpoint
	whole   func(files []api.File) any // as it is printed, with these files
}

// restorable finds a checkpoint by its address, or an edition by its own.
func (a *Commands) restorable(ctx context.Context, text string) (*restorable, error) {
	if catalogue.Names(text) {
		at, err := catalogue.Parse(text)
		if err != nil {
			return nil, err
		}
		e, err := term.Edition(ctx, a.Client(), at)
		if err != nil {
			return nil, err
		}
		in := api.EditionInput{ModelInput: api.ModelInput{Model: e.Model}, Edition: e.Number}
		return &restorable{address: e.Address, parts: e.Facts.Parts, files: e.Files, size: e.Size,
			source: client.OfEdition(a.Client(), in),
			whole:  func(files []api.File) any { e.Files = files; return e }}, nil
	}
	addr, err := term.Address(text, true, true)
	if err != nil {
		return nil, err
	}
	c, err := client.Call(ctx, a.Client(), api.GetCheckpoint,
		&api.CheckpointInput{RunInput: term.RunOf(addr), At: addr.At.String()})
	if err != nil {
		return nil, err
	}
	if c.Dropped != nil {
		return nil, term.Exit{Code: term.ExitNotFound, Err: fmt.Errorf("the bytes of %s are gone: %s", c.Address,
			term.FateOf(c))}
	}
	// Its leg and step name the checkpoint from here on, should another become the best meanwhile.
	run := term.RunOf(addr)
	in := api.CheckpointInput{RunInput: run, At: c.Fixed()}
	return &restorable{address: c.Address, parts: c.Parts, files: c.Files, size: c.Size, run: &run,
		source: client.OfCheckpoint(a.Client(), in),
		whole:  func(files []api.File) any { c.Files = files; return c }}, nil
}

// chosen are the files of the parts asked for; none: all.
func (r *restorable) chosen(parts []string) ([]api.File, error) {
	if len(parts) == 0 {
		return r.files, nil
	}
	var out []api.File
	for _, p := range parts {
		found := false
		for _, f := range r.files {
			if f.Part == p {
				out, found = append(out, f), true
			}
		}
		if !found {
			return nil, term.Exit{Code: term.ExitNotFound, Err: fmt.Errorf("%s has no part %q; it has: %s", r.address,
				p,
				strings.Join(r.parts, ", "))}
		}
	}
	return out, nil
}

func restoreError(err error) error {
	if client.IsExists(err) {
		return term.Exit{Code: term.ExitExists,
			Err: fmt.Errorf("%w; nothing was written; --overwrite replaces it", err)}
	}
	return err
}
