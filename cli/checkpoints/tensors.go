package checkpoints

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/tensor"
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
	a.OutputFlag(cmd, &output)
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
			from, err := a.Checkpoint(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			to, err := a.Checkpoint(cmd.Context(), args[1])
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
	a.OutputFlag(cmd, &output)
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
			addr, err := a.Checkpoint(cmd.Context(), args[0])
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
			l.Empty, l.Spare = t.Says, []string{"not finite", "dtype", "mean", "deviation"}
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
			switch { // ends as match and diff-weights do
			case t.Absent:
				return term.Exit{Code: term.ExitNotFound, Err: nil}
			case t.Problem != "":
				return term.Exit{Code: term.ExitFailed, Err: nil}
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}
