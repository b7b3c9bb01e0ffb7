package checkpoints

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/tensor"
	"kembrel/recorder"
)

// atInput names the checkpoint in an address.
func atInput(addr api.Address) api.CheckpointInput {
	return api.CheckpointInput{RunInput: term.RunOf(addr), At: addr.At.String()}
}

// side reads one side of a match: a checkpoint's address, with :architecture behind it where that part is meant, or a
// local file.
func side(text string) (api.MatchSide, error) {
	address, part, _ := strings.Cut(text, ":")
	if a, err := api.ParseAddress(address); err == nil && a.At.Kind != api.AtNone {
		return api.MatchSide{Address: address, Part: part}, nil
	}
	content, err := os.Open(text)
	if err != nil {
		return api.MatchSide{},
			term.Exit{Code: term.ExitNotFound,
				Err: fmt.Errorf("%q is neither a checkpoint, such as vessels/3@best, nor a file that can be read: %w",
					text, err)}
	}
	defer content.Close()
	info, err := content.Stat()
	if err != nil {
		return api.MatchSide{}, err
	}
	if strings.HasSuffix(text, ".json") {
		all, err := os.ReadFile(text)
		if err != nil {
			return api.MatchSide{}, err
		}
		list, ok := tensor.ParseList(all)
		if !ok {
			return api.MatchSide{},
				fmt.Errorf(`%s lists no tensors: it should have {"tensors": [{"name", "dtype", "shape"}, ...]}`, text)
		}
		return api.MatchSide{Tensors: list}, nil
	}
	f, err := tensor.Open(content, info.Size())
	if err != nil {
		return api.MatchSide{}, fmt.Errorf("%s: %w", text, err)
	}
	return api.MatchSide{Tensors: f.Tensors}, nil
}

// Match makes the command match.
func (a *Commands) Match() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "match GIVEN WANTED",
		Short: "Say whether the tensors of one fit the other, before anything is loaded",
		Args:  term.Arguments("GIVEN", "WANTED"),
		Long: `Say which tensors are missing, unexpected, or of another shape or dtype, and which are likely there under other names. Each side is a checkpoint, a part
of it that lists tensors (vessels/3@best:architecture), or a local file: safetensors, NPY, NPZ, or JSON {"tensors": [...]}. Ends with 7 where they do not fit.`,
		Example: `  kembrel match vessels/3@best vessels/5@last
  kembrel match vessels/3@best model/architecture.json`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			in := &api.MatchInput{}
			var err error
			if in.Body.Given, err = side(args[0]); err != nil {
				return err
			}
			if in.Body.Want, err = side(args[1]); err != nil {
				return err
			}
			var m *api.Match
			if in.Body.Given.Address == "" && in.Body.Want.Address == "" { // two files need no service
				found := tensor.Compare(in.Body.Given.Tensors, in.Body.Want.Tensors)
				m = &api.Match{Says: found.Sentence(), Fits: found.Fits(), Match: found}
			} else if m, err = client.Call(cmd.Context(), a.Client(), api.MatchTensors, in); err != nil {
				return err
			}
			renamed := map[string]string{}
			for _, r := range m.Renames {
				renamed[r.Want], renamed[r.Given] = r.Given, r.Want
			}
			l := term.List("tensor", "what", "given", "wanted", "likely")
			for _, t := range m.Missing {
				l.Add(t.Name, "missing", "", shape(t), renamed[t.Name])
			}
			for _, t := range m.Unexpected {
				l.Add(t.Name, "unexpected", shape(t), "", renamed[t.Name])
			}
			for _, d := range m.Shapes {
				l.Add(d.Name, "another shape", shape(d.Given), shape(d.Want), "")
			}
			for _, d := range m.Dtypes {
				l.Add(d.Name, "another dtype", shape(d.Given), shape(d.Want), "")
			}
			if output != "table" || len(l.Rows) > 0 {
				if err := a.Print(output, l, m); err != nil {
					return err
				}
			}
			if output == "table" {
				fmt.Fprintln(a.Out, m.Says)
			}
			if !m.Fits {
				return term.Exit{Code: term.ExitDiffers, Err: nil}
			}
			return nil
		}}
	term.OutputFlag(cmd, &output)
	return cmd
}

func shape(t tensor.Info) string {
	return t.Dtype + " " + strings.ReplaceAll(fmt.Sprint(t.Shape), " ", "×")
}

// DiffWeights makes the command diff-weights.
func (a *Commands) DiffWeights() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "diff-weights BEFORE AFTER",
		Short: "Say how far each tensor moved from one checkpoint to another", Args: term.Arguments("BEFORE", "AFTER"),
		Example:           "  kembrel diff-weights vessels/3@e5 vessels/3@best",
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			from, err := term.Address(args[0], true, true)
			if err != nil {
				return err
			}
			to, err := term.Address(args[1], true, true)
			if err != nil {
				return err
			}
			d, err := client.Call(cmd.Context(), a.Client(), api.GetDifference,
				&api.DifferenceInput{CheckpointInput: atInput(to), From: from.String()})
			if err != nil {
				return err
			}
			l := term.List("tensor", "shape", "", "distance#", "relative#", "cosine#", "largest change#", "at#")
			for _, t := range d.Tensors {
				mark, at := "", ""
				if t.Equal {
					mark = "equal"
				}
				if t.Largest > 0 {
					at = fmt.Sprint(t.At)
				}
				l.Add(t.Name, strings.ReplaceAll(fmt.Sprint(t.Shape), " ", "×"), mark, term.Number(float64(t.Distance)),
					term.Number(float64(t.Relative)), fmt.Sprintf("%.6f", float64(t.Cosine)),
					term.Number(float64(t.Largest)), at)
			}
			if err := a.Print(output, l, d); err != nil {
				return err
			}
			if output == "table" {
				fmt.Fprintln(a.Out, d.Says)
			}
			return nil
		}}
	term.OutputFlag(cmd, &output)
	return cmd
}

// Tensors makes the command tensors.
func (a *Commands) Tensors() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "tensors CHECKPOINT", Short: "List a checkpoint's tensors with their statistics",
		Args:              term.Arguments("CHECKPOINT"),
		Example:           "  kembrel tensors vessels/3@best",
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			addr, err := term.Address(args[0], true, true)
			if err != nil {
				return err
			}
			t, err := client.Call(cmd.Context(), a.Client(), api.GetTensors,
				&api.TensorsInput{CheckpointInput: atInput(addr), Part: "weights"})
			if err != nil {
				return err
			}
			l := term.List("tensor", "dtype", "shape", "parameters#", "mean#", "deviation#", "min#", "max#",
				"not finite#", "odd")
			l.Empty = t.Says
			for _, x := range t.Tensors {
				l.Add(x.Name, x.Dtype, strings.ReplaceAll(fmt.Sprint(x.Shape), " ", "×"), fmt.Sprint(x.Parameters),
					term.Number(float64(x.Mean)), term.Number(float64(x.Deviation)), term.Number(float64(x.Min)),
					term.Number(float64(x.Max)), fmt.Sprint(x.NaN+x.Infinite), x.Odd)
			}
			if err := a.Print(output, l, t); err != nil {
				return err
			}
			if output == "table" && len(l.Rows) > 0 {
				fmt.Fprintln(a.Out, t.Says)
			}
			return nil
		}}
	term.OutputFlag(cmd, &output)
	return cmd
}

// Verify makes the command verify.
func (a *Commands) Verify() *cobra.Command {
	var output string
	var tolerance float64
	cmd := &cobra.Command{Use: "verify CHECKPOINT -- COMMAND...",
		Short: "Restore a checkpoint, evaluate it, and compare the figures with those recorded",
		Long: `Restore a checkpoint into a temporary folder, run your evaluation of it under a recorder, and compare the figures that it reports with those recorded when
the checkpoint was saved. The outcome is kept with the checkpoint. The folder stands in place of {folder} in the command, in the variable KEMBREL_VERIFY_FOLDER, and in the recorder's
welcome. The evaluation reports figures as training does (docs/resuming.md). Ends with 7 where they are not the same.`,
		Example: `  kembrel verify vessels/3@best -- ./harbour evaluate
  kembrel verify vessels/3@best --tolerance 1e-6 -- python3 evaluate.py {folder}`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.ArgsLenAtDash() != 1 || len(args) < 2 {
				return term.Usage("say what to run, behind two hyphens: kembrel verify vessels/3@best -- ./harbour evaluate")
			}
			addr, err := term.Address(args[0], true, true)
			if err != nil {
				return err
			}
			v, err := a.verified(cmd.Context(), addr, args[1:], tolerance)
			if err != nil {
				return err
			}
			l := term.List("curve", "recorded#", "found#", "")
			for _, f := range v.Figures {
				recorded, mark := "", "was not recorded"
				if f.Recorded != nil {
					recorded, mark = term.Number(float64(*f.Recorded)), "the same"
					if !f.Same {
						mark = "another"
					}
				}
				l.Add(f.Curve, recorded, term.Number(float64(f.Found)), mark)
			}
			if err := a.Print(output, l, v); err != nil {
				return err
			}
			if output == "table" {
				fmt.Fprintln(a.Out, v.Says)
			}
			if !v.Same {
				return term.Exit{Code: term.ExitDiffers, Err: nil}
			}
			return nil
		}}
	term.OutputFlag(cmd, &output)
	cmd.Flags().Float64Var(&tolerance, "tolerance", 0, "greatest difference that counts as the same; 0: exact")
	return cmd
}

func (a *Commands) verified(ctx context.Context, addr api.Address, command []string,
	tolerance float64) (*api.Verification, error) {
	c, err := client.Call(ctx, a.Client(), api.GetCheckpoint,
		&api.CheckpointInput{RunInput: term.RunOf(addr), At: addr.At.String()})
	if err != nil {
		return nil, err
	}
	at, err := api.ParseAddress(c.Address)
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "kembrel-verify-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	m := a.Meter(c.Address, c.Size)
	err = client.Restore(ctx, a.Client(), api.CheckpointInput{RunInput: atInput(at).RunInput, At: c.Fixed()}, c.Files,
		folder, false, m.Add)
	m.Done()
	if err != nil {
		return nil, err
	}
	command = slices.Clone(command)
	for i := range command {
		command[i] = strings.ReplaceAll(command[i], "{folder}", folder)
	}
	figures, code, err := recorder.Evaluate(ctx, recorder.Options{Out: term.Raw(a.Err),
		Err: term.Raw(a.Err)}, folder, command)
	if err != nil {
		return nil, err
	}
	if code != 0 {
		return nil, fmt.Errorf("the evaluation ended with exit code %d; nothing is kept", code)
	}
	if len(figures) == 0 {
		return nil, fmt.Errorf("the evaluation reported no figure; let it speak to the recorder as training does (docs/resuming.md)")
	}
	in := &api.NewVerification{CheckpointInput: atInput(at)}
	in.Body.Figures, in.Body.Tolerance, in.Body.Command = figures, api.Float(tolerance), command
	in.Body.Host, _ = os.Hostname()
	return client.Call(ctx, a.Client(), api.AddVerification, in)
}
