package lineage

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Kind is what a node is.
type Kind string

// The kinds of nodes.
const (
	Snapshot   Kind = "snapshot"
	Run        Kind = "run"
	Checkpoint Kind = "checkpoint"
	Evaluation Kind = "evaluation"
)

// Node is a thing that has an origin or a use.
type Node struct {
	Kind    Kind      `json:"kind" enum:"snapshot,run,checkpoint,evaluation"`
	Address string    `json:"address" example:"vessels/7@e13"`
	Title   string    `json:"title,omitempty" doc:"Of a run; what an evaluation found; how much a snapshot holds"`
	Who     string    `json:"who,omitempty"`
	At      time.Time `json:"at,omitzero" doc:"When it was made, or began"`
	State   string    `json:"state,omitempty" doc:"Of a run; of others: gone where it was deleted, hidden where one may not see it"`
	Depth   int       `json:"depth" doc:"Links away: below 0 it is before what was asked for, above 0 after"`
	More    int64     `json:"more,omitempty" doc:"Of a run: checkpoints that nothing here uses"`
}

// The states of nodes of which nothing more is known.
const (
	Gone   = "gone"   // deleted
	Hidden = "hidden" // whoever asks may not see it
)

// How says in what way one thing was made with another.
type How string

// The ways. The first named of each is where the link begins.
const (
	Data    How = "data"          // snapshot, run: it used the data
	Saved   How = "saved"         // run, checkpoint
	Branch  How = "branch"        // checkpoint, run: it went on from it
	Rerun   How = "rerun"         // run, run
	Equal   How = "equal-weights" // checkpoint, run: its starting weights are equal to these
	Judged  How = "evaluated"     // checkpoint, evaluation
	On      How = "evaluated-on"  // snapshot, evaluation
	Changed How = "changed"       // snapshot, snapshot made of it by changes
)

// Edge is a link: it leads from a thing to one made with it.
type Edge struct {
	From   int    `json:"from" doc:"Place in nodes"`
	To     int    `json:"to" doc:"Place in nodes"`
	How    How    `json:"how" enum:"data,saved,branch,rerun,equal-weights,evaluated,evaluated-on,changed"`
	Detail string `json:"detail,omitempty" example:"train: hydrophone#3:train" doc:"Of data: what for, and which split"`
}

// Graph is what lies around a thing.
type Graph struct {
	Of    int    `json:"of" doc:"Place of what was asked for in nodes"`
	Nodes []Node `json:"nodes" doc:"What was there before comes before what was made with it"`
	Links []Edge `json:"links"`
	Cut   bool   `json:"cut,omitempty" doc:"There is more than was asked for"`
}

// Sort puts nodes in order: what was there before first, then by time and address; links by where they lead.
func (g *Graph) Sort() {
	left := make([]int, len(g.Nodes)) // links that lead to a node from nodes not placed yet
	for _, l := range g.Links {
		left[l.To]++
	}
	var free []int
	for i := range g.Nodes {
		if left[i] == 0 {
			free = append(free, i)
		}
	}
	after := make([][]int, len(g.Nodes))
	for _, l := range g.Links {
		after[l.From] = append(after[l.From], l.To)
	}
	place, nodes := make([]int, len(g.Nodes)), make([]Node, 0, len(g.Nodes))
	for len(free) > 0 {
		best := 0
		for i := range free {
			if compare(g.Nodes[free[i]], g.Nodes[free[best]]) < 0 {
				best = i
			}
		}
		n := free[best]
		free = slices.Delete(free, best, best+1)
		place[n] = len(nodes)
		nodes = append(nodes, g.Nodes[n])
		for _, m := range after[n] {
			if left[m]--; left[m] == 0 {
				free = append(free, m)
			}
		}
	}
	if len(nodes) < len(g.Nodes) {
		return // a circle, which cannot be; it is shown as it came
	}
	g.Nodes, g.Of = nodes, place[g.Of]
	for i, l := range g.Links {
		g.Links[i].From, g.Links[i].To = place[l.From], place[l.To]
	}
	slices.SortFunc(g.Links, func(a, b Edge) int {
		return cmp.Or(a.To-b.To, a.From-b.From, strings.Compare(string(a.How), string(b.How)), turn(a)-turn(b),
			strings.Compare(a.Detail, b.Detail))
	})
}

// turn has what data was used for in the order in which people name it.
func turn(l Edge) int {
	use, _, _ := strings.Cut(l.Detail, ":")
	if i := slices.Index([]string{"train", "val", "test"}, use); i >= 0 {
		return i
	}
	return 3
}

func compare(a, b Node) int {
	return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Address, b.Address))
}

// Before says in a sentence where the thing that was asked for comes from.
func (g *Graph) Before() string {
	return g.say(func(n Node) bool { return n.Depth < 0 }, "It comes from", "It comes from nothing that is known here.")
}

// After says in a sentence what uses it.
func (g *Graph) After() string {
	return g.say(func(n Node) bool { return n.Depth > 0 }, "What came of it:", "Nothing that is known here uses it.")
}

func (g *Graph) say(which func(Node) bool, head, none string) string {
	var parts []string
	for _, k := range []Kind{Snapshot, Run, Checkpoint, Evaluation} {
		n, gone, address := 0, 0, ""
		for _, node := range g.Nodes {
			if node.Kind != k || !which(node) {
				continue
			}
			n++
			address = node.Address
			if node.State == Gone || node.State == Hidden {
				gone++
			}
		}
		switch {
		case n == 1 && gone == 0 && k != Evaluation:
			parts = append(parts, fmt.Sprintf("the %s %s", k, address))
		case n == 1:
			parts = append(parts, "1 "+string(k))
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %ss", n, k))
		}
		if gone > 0 {
			parts[len(parts)-1] += fmt.Sprintf(" (%d deleted, or not for you to see)", gone)
		}
	}
	if len(parts) == 0 {
		return none
	}
	text := parts[len(parts)-1]
	if len(parts) > 1 {
		text = strings.Join(parts[:len(parts)-1], ", ") + " and " + text
	}
	text = head + " " + text + "."
	if g.Cut {
		text += " There is more, which is not shown."
	}
	return text
}

// Say says in a few words how a link's end came of its beginning, seen from the end: "used for train", "saved by".
func (l Edge) Say() string {
	switch l.How {
	case Data:
		use, split, _ := strings.Cut(l.Detail, ": ")
		if _, name, _ := strings.Cut(split, ":"); name != "" && name != use {
			use += " (its " + name + ")"
		}
		return "used for " + use
	case Saved:
		return "saved by"
	case Branch:
		return "went on from"
	case Rerun:
		return "did again"
	case Equal:
		return "began with weights equal to"
	case Judged:
		return "judged"
	case On:
		return "on"
	case Changed:
		return "changed from"
	}
	return string(l.How)
}
