package lineage

import (
	"cmp"
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
	Edition    Kind = "edition" // of a model in the catalogue
)

// Node is a thing that has an origin or a use.
type Node struct {
	Kind    Kind      `json:"kind" enum:"snapshot,run,checkpoint,evaluation,edition"`
	Address string    `json:"address" example:"vessels/7@e13"`
	Title   string    `json:"title,omitempty" doc:"Of a run; what an evaluation found; how much a snapshot holds; the standings of an edition"`
	Places  []string  `json:"places,omitempty" doc:"Of an edition: where it is used; at most 100"`
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
	Data      How = "data"          // snapshot, run: it used the data
	Saved     How = "saved"         // run, checkpoint
	Branch    How = "branch"        // checkpoint, run: it went on from it
	Rerun     How = "rerun"         // run, run
	Equal     How = "equal-weights" // checkpoint, run: its starting weights are equal to these
	Evaluated How = "evaluated"     // checkpoint, evaluation
	On        How = "evaluated-on"  // snapshot, evaluation
	Changed   How = "changed"       // snapshot, snapshot made of it by changes
	Entered   How = "entered"       // checkpoint, edition
)

// Edge is a link: it leads from a thing to one made with it.
type Edge struct {
	From int    `json:"from" doc:"Place in nodes"`
	To   int    `json:"to" doc:"Place in nodes"`
	How  How    `json:"how" enum:"data,saved,branch,rerun,equal-weights,evaluated,evaluated-on,changed,entered"`
	Use  string `json:"use,omitempty" example:"train" doc:"Of data: what it was used for"`
	Data string `json:"data,omitempty" example:"hydrophone#3:train" doc:"Of data, and evaluated on: which split"`
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
			strings.Compare(a.Use, b.Use))
	})
}

// turn has what data was used for in the order in which people name it.
func turn(l Edge) int {
	if i := slices.Index([]string{"train", "val", "test"}, l.Use); i >= 0 {
		return i
	}
	return 3
}

func compare(a, b Node) int {
	return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Address, b.Address))
}
