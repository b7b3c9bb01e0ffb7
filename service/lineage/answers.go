package lineage

import (
	"fmt"
	"strings"

	"kembrel/core/lineage"
	"kembrel/service/act"
)

// sayBefore says in a sentence where the thing that was asked for comes from.
func sayBefore(g *lineage.Graph) string {
	return say(g, -1, "It comes from", "It comes from nothing that is known here.")
}

// sayAfter says in a sentence what uses it.
func sayAfter(g *lineage.Graph) string {
	none := "Nothing that is known here uses it."
	places := g.Nodes[g.Of].Places
	if len(places) == 0 {
		return say(g, 1, "What came of it:", none)
	}
	used := "It is used at " + strings.Join(places[:min(len(places), mostPlaces)], ", ")
	if more := len(places) - mostPlaces; more > 0 {
		used += fmt.Sprintf(" and %d more", more)
	}
	used += "."
	if text := say(g, 1, "What came of it:", none); text != none {
		used += " " + text
	}
	return used
}

// mostPlaces is how many places are named in a sentence.
const mostPlaces = 3

// say counts the things on one side by what they are; one alone is named.
func say(g *lineage.Graph, side int, head, none string) string {
	var parts []string
	for _, k := range []lineage.Kind{lineage.Snapshot, lineage.Run, lineage.Checkpoint, lineage.Evaluation,
		lineage.Edition} {
		var list []lineage.Node
		gone := 0
		for _, n := range g.Nodes {
			if n.Kind != k || n.Depth*side <= 0 {
				continue
			}
			list = append(list, n)
			if n.State == lineage.Gone || n.State == lineage.Hidden {
				gone++
			}
		}
		if len(list) == 0 {
			continue
		}
		text := act.Many(len(list), string(k), string(k)+"s")
		if len(list) == 1 && gone == 0 && k != lineage.Evaluation {
			text = fmt.Sprintf("the %s %s", k, list[0].Address)
		}
		if gone > 0 {
			text += fmt.Sprintf(" (%d deleted, or not for you to see)", gone)
		}
		parts = append(parts, text)
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
