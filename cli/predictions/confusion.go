package predictions

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// mostDrawn is how many classes a matrix is drawn for in the terminal.
const mostDrawn = 30

// Confusion makes the command confusion.
func (a *Commands) Confusion() *cobra.Command {
	var output string
	var which choice
	shares := false
	cmd := &cobra.Command{Use: "confusion RUN", Short: "Draw what a model takes for what", Args: term.Arguments("RUN"),
		Long: `Draw the confusion matrix of a prediction sheet: a row a true class, a column an answer; of masks it counts pixels. Of several labels a row is what is missed and
a column what is added in the same example. What is wrong is marked the darker the larger its share of the row.`,
		Example: `  kembrel confusion vessels/3
  kembrel confusion vessels/3 --split test --shares
  kembrel confusion vessels/3 --output csv`,
		ValidArgsFunction: a.Complete(true, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := which.of(cmd.Context(), a, args[0])
			if err != nil {
				return err
			}
			d, err := client.Call(cmd.Context(), a.Client(), api.GetSheet, &at)
			if err != nil {
				return err
			}
			if !d.Task.Classed() {
				return fmt.Errorf("the answers of sheet %d of %s are of the task %s, so nothing is taken for something else",
					d.Number, d.Run, d.Task)
			}
			if output == "table" && len(d.Classes) > mostDrawn {
				return fmt.Errorf("%d classes are too many to draw here; --output csv writes the matrix, predictions show the worst pairs",
					len(d.Classes))
			}
			l := matrix(d, shares, output == "table")
			if output == "table" {
				a.head(d)
				fmt.Fprintln(a.Out)
			}
			if err := a.Print(output, l, d.Assessed); err != nil {
				return err
			}
			if output == "table" {
				fmt.Fprintf(a.Out, "\n%s\n", term.Printable(d.Says))
				for _, x := range d.Alarms {
					fmt.Fprintf(a.Out, "! %s\n", term.Printable(x.Says))
				}
			}
			return nil
		}}
	a.OutputFlag(cmd, &output)
	which.add(cmd.Flags())
	cmd.Flags().BoolVar(&shares, "shares", false, "shares of each row instead of counts")
	return cmd
}

// shades mark what is wrong by its share of the row.
var shades = []struct {
	from float64
	mark string
}{{0.25, "█"}, {0.1, "▓"}, {0.05, "▒"}, {0.01, "░"}}

// matrix draws the confusion matrix.
func matrix(d *api.SheetDetail, shares, shaded bool) term.Listing {
	k := len(d.Classes)
	counts := make([][]int64, k+1)
	none, added := false, false
	for i := range counts {
		counts[i] = make([]int64, k+1)
	}
	for _, c := range d.Assessed.Cells {
		row, at := c.True, c.Predicted
		if at < 0 {
			at, none = k, true
		}
		if row < 0 {
			row, added = k, true
		}
		counts[row][at] = c.Count
	}
	corner, nothing := "true \\ predicted", "no answer"
	if d.Task == sheet.Labels {
		corner, nothing = "missed \\ added", "nothing"
	}
	head := []string{corner}
	for _, c := range d.Classes {
		head = append(head, term.Printable(c)+"#")
	}
	if none {
		head = append(head, nothing+"#")
	}
	l := term.List(head...)
	rows := slices.Clone(d.Assessed.Classes)
	if added {
		rows = append(rows, assess.Class{Name: nothing})
	}
	for i, c := range rows {
		row := []string{term.Printable(c.Name)}
		for j := range len(head) - 1 {
			n, part := counts[i][j], 0.0
			if c.True > 0 {
				part = float64(n) / float64(c.True)
			}
			text := ""
			switch {
			case n > 0 && shares:
				text = fmt.Sprintf("%.3f", part)
			case n > 0 || !shaded:
				text = fmt.Sprint(n)
			}
			if shaded {
				mark := " "
				for _, s := range shades {
					if i != j && part >= s.from {
						mark = s.mark
						break
					}
				}
				text += " " + mark
			}
			row = append(row, text)
		}
		l.Add(row...)
	}
	return l
}
