// Package lineage has the command that says where things come from and what uses them.
package lineage

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/core/catalogue"
	"kembrel/core/lineage"
)

// Commands are those of this folder.
type Commands struct{ *term.App }

// Lineage makes the command lineage.
func (a *Commands) Lineage() *cobra.Command {
	var output string
	var files term.Files
	in := &api.LineageInput{Limit: 300}
	cmd := &cobra.Command{Use: "lineage ADDRESS", Short: "Say where a thing comes from and what uses it",
		Args: term.Arguments("ADDRESS"),
		Long: `Say where a snapshot, a run, a checkpoint, an evaluation or an edition comes from, and what uses it, to any depth: the data that a run used, the checkpoint that it went
on from, the run that it did again, the checkpoints that were evaluated, and on what. --to writes the same as W3C PROV.`,
		Example: `  kembrel lineage vessels/3@best
  kembrel lineage vessel-classifier/in-use --only before
  kembrel lineage hydrophone#1 --only after --depth 1
  kembrel lineage vessels/3 --to lineage.provn`,
		ValidArgsFunction: a.Complete(true, true),
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Of = args[0]
			if at, err := catalogue.Parse(args[0]); err == nil && at.Standing != "" { // that of an edition
				e, err := term.Edition(cmd.Context(), a.Client(), at)
				if err != nil {
					return err
				}
				in.Of = e.Address
			}
			if err := files.Check("json", "provn"); err != nil {
				return err
			}
			for _, path := range files.Paths {
				p := &api.ProvenanceInput{LineageInput: *in, Format: "json"}
				if term.Kind(path, "json") == "provn" {
					p.Format = "n"
				}
				if err := term.WriteAnswer(cmd.Context(), a.App, path, api.GetProvenance, p); err != nil {
					return err
				}
			}
			if len(files.Paths) > 0 {
				return nil
			}
			got, err := client.Call(cmd.Context(), a.Client(), api.GetLineage, in)
			if err != nil {
				return err
			}
			l := term.List("side", "links#", "thing", "how", "what", "who", "when")
			l.Shorten, l.Spare = "what", []string{"when", "who"}
			sides(&got.Graph, output == "table", &l)
			if output == "table" {
				for _, says := range []string{got.Before, got.After} {
					if says != "" {
						fmt.Fprintln(a.Out, term.Printable(says))
					}
				}
				if len(l.Rows) == 0 {
					return nil
				}
				fmt.Fprintln(a.Out)
			}
			return a.Print(output, l, got)
		}}
	a.OutputFlag(cmd, &output)
	f := cmd.Flags()
	f.StringVar(&in.Only, "only", "", "before: only where it comes from; after: only what uses it")
	f.IntVar(&in.Depth, "depth", 0, "so many links away at most; 0: all")
	f.IntVar(&in.Limit, "limit", 300, "so many things at most, the nearest first")
	term.FilesFlag(cmd, &files, ".provn (PROV-N) or .json (PROV-JSON)")
	cmd.RegisterFlagCompletionFunc("only", cobra.FixedCompletions([]string{"before", "after"},
		cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// sides lists what is before and after the thing asked for, each as a tree; what stands in it already is not unfolded
// again.
func sides(g *lineage.Graph, indent bool, l *term.Listing) {
	seen := map[int]bool{}
	var walk func(at, depth int, side string)
	walk = func(at, depth int, side string) {
		for _, b := range beside(g, at, side) {
			n := g.Nodes[b.node]
			thing := n.Address
			if n.State == lineage.Hidden {
				thing = "(not for you to see)"
			}
			if indent {
				thing = strings.Repeat("  ", depth-1) + thing
			}
			when := ""
			if !n.At.IsZero() {
				when = term.When(n.At)
			}
			what := string(n.Kind)
			used := ""
			if len(n.Places) > 0 {
				used = "used at " + strings.Join(n.Places, ", ")
			}
			for _, more := range []string{n.Title, used, n.State} {
				if more != "" && more != lineage.Hidden {
					what += ", " + more
				}
			}
			if seen[b.node] {
				what = "see above"
			}
			l.Add(side, strconv.Itoa(depth), thing, how(b.links), what, n.Who, when)
			if !seen[b.node] {
				seen[b.node] = true
				walk(b.node, depth+1, side)
			}
		}
	}
	walk(g.Of, 1, "before")
	walk(g.Of, 1, "after")
}

// neighbour is a thing one link away, with all the links between the two.
type neighbour struct {
	node  int
	links []lineage.Edge
}

// beside are the neighbours of a thing on one side.
func beside(g *lineage.Graph, at int, side string) (out []neighbour) {
	for _, e := range g.Links {
		here, other, sign := e.To, e.From, -1
		if side == "after" {
			here, other, sign = e.From, e.To, 1
		}
		if here != at || g.Nodes[other].Depth*sign <= 0 {
			continue
		}
		i := slices.IndexFunc(out, func(n neighbour) bool { return n.node == other })
		if i < 0 {
			i = len(out)
			out = append(out, neighbour{node: other})
		}
		out[i].links = append(out[i].links, e)
	}
	return out
}

// ways say in what way the end of a link came of its beginning.
var ways = map[lineage.How]string{lineage.Saved: "saved by", lineage.Branch: "went on from", lineage.Rerun: "did again",
	lineage.Equal: "began with weights equal to", lineage.Evaluated: "evaluated", lineage.On: "evaluated on",
	lineage.Changed: "changed from", lineage.Entered: "entered from"}

// how says in what ways two things belong together.
func how(links []lineage.Edge) string {
	var parts, uses []string
	for _, l := range links {
		if l.How != lineage.Data {
			parts = append(parts, ways[l.How])
			continue
		}
		use := l.Use
		if _, split, _ := strings.Cut(l.Data, ":"); split != "" && split != use {
			use += " (its " + split + ")"
		}
		uses = append(uses, use)
	}
	if len(uses) > 0 {
		parts = append(parts, "used for "+strings.Join(uses, ", "))
	}
	return strings.Join(parts, ", ")
}
