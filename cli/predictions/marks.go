package predictions

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// marks makes the command that lists what people said of labels.
func (a *Commands) marks() *cobra.Command {
	var output, relabelled string
	var which choice
	cmd := &cobra.Command{Use: "marks RUN", Short: "List what people said of the labels of examples",
		Args: term.Arguments("RUN"),
		Long: `List what people said of the labels of a sheet's examples, the latest last. --relabelled writes those that are wrong and of which it was said what they should be
into a table from which kembrel data add --change makes a new snapshot.`,
		Example: `  kembrel predictions marks vessels/3
  kembrel predictions marks vessels/3 --relabelled relabelled.csv
  kembrel data add hydrophone --change hydrophone#3 --table relabelled.csv --yes`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			at, err := which.of(ctx, a, args[0])
			if err != nil {
				return err
			}
			m, err := client.Call(ctx, a.Client(), api.ListMarks, &api.MarksInput{SheetInput: at})
			if err != nil {
				return err
			}
			if relabelled != "" {
				return a.writeRelabelled(relabelled, m)
			}
			l := term.List("key", "label", "is", "should be", "who", "when")
			l.Empty = "Nobody has said anything of the labels of " + m.Scope + "."
			for _, x := range m.Items {
				l.Add(x.Key, x.Was, x.Mark, x.Label, x.Who, term.When(x.At))
			}
			return a.Print(output, l, m)
		}}
	a.OutputFlag(cmd, &output)
	which.add(cmd.Flags())
	cmd.Flags().StringVar(&relabelled, "relabelled", "",
		"write keys and labels of those that are wrong into this file (.csv)")
	return cmd
}

// writeRelabelled writes the labels that should be, the latest word on each example; one that was called right or
// unclear later is not among them.
func (a *Commands) writeRelabelled(path string, m *api.Marks) error {
	latest, order := map[string]api.Mark{}, []string{}
	for _, x := range m.Items {
		if _, known := latest[x.Key]; !known {
			order = append(order, x.Key)
		}
		latest[x.Key] = x
	}
	n := 0
	err := a.WriteFile(path, func(w io.Writer) error {
		out := csv.NewWriter(w)
		out.Write([]string{"key", "label"})
		for _, key := range order {
			if x := latest[key]; x.Label != "" {
				n++
				out.Write([]string{key, x.Label})
			}
		}
		out.Flush()
		return out.Error()
	})
	if err == nil {
		fmt.Fprintf(a.Err, "kembrel: %s of %s in %s\n", term.Many(int64(n), "label", "labels"), m.Scope, path)
	}
	return err
}

// mark makes the command that says something of a label.
func (a *Commands) mark() *cobra.Command {
	var label string
	var undo bool
	var which choice
	cmd := &cobra.Command{Use: "mark RUN KEY [right|wrong|unclear]",
		Short: "Say whether the label of an example is right", Args: cobra.RangeArgs(2, 3),
		Long: `Say whether the label of an example is right, wrong or unclear, in the place of what you said before. It is kept with the snapshot that the examples are items of, and holds
for all runs on it.`,
		Example: `  kembrel predictions vessels/3 --order suspect --limit 20
  kembrel predictions mark vessels/3 voyage1000007/tug-3.npy wrong --label ferry
  kembrel predictions mark vessels/3 voyage1000007/tug-3.npy --undo`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			if undo == (len(args) == 3) {
				return term.Usage("say what its label is: right, wrong or unclear; or --undo")
			}
			ctx := cmd.Context()
			at, err := which.of(ctx, a, args[0])
			if err != nil {
				return err
			}
			found, err := client.Call(ctx, a.Client(), api.ListExamples, &api.ExamplesInput{SheetInput: at,
				Where: "key == " + strconv.Quote(args[1]), Limit: 1, Order: "key"})
			if err != nil {
				return err
			}
			if len(found.Items) == 0 {
				return term.Exit{Code: term.ExitNotFound, Err: fmt.Errorf("%s has no example %s", args[0], args[1])}
			}
			example := api.ExampleInput{SheetInput: at, Row: found.Items[0].Row}
			if undo {
				_, err = client.Call(ctx, a.Client(), api.DropMark, &example)
				return err
			}
			in := &api.NewMark{ExampleInput: example}
			in.Body.Mark, in.Body.Label = args[2], label
			_, err = client.Call(ctx, a.Client(), api.SetMark, in)
			return err
		}}
	which.add(cmd.Flags())
	cmd.Flags().StringVar(&label, "label", "", "what a wrong label should be")
	cmd.Flags().BoolVar(&undo, "undo", false, "take back what you said")
	return cmd
}
