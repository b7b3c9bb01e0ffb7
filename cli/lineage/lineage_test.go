package lineage

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/cli/term"
	"kembrel/core/lineage"
)

// Both sides stand as trees; what two things have with each other is one line, and nothing is unfolded twice.
func TestSides(t *testing.T) {
	g := &lineage.Graph{Of: 1, Nodes: []lineage.Node{{Kind: lineage.Snapshot, Address: "hydrophone#1", Depth: -1},
		{Kind: lineage.Run, Address: "vessels/1"}, {Kind: lineage.Checkpoint, Address: "vessels/1@e2", Depth: 1},
		{Kind: lineage.Checkpoint, Address: "vessels/1@e3", Depth: 1},
		{Kind: lineage.Run, Address: "vessels/2", Depth: 2, Title: "Frozen", State: "finished"},
		{Kind: lineage.Run, State: lineage.Hidden, Depth: 1}},
		Links: []lineage.Edge{{From: 0, To: 1, How: lineage.Data, Use: "train", Data: "hydrophone#1:train"},
			{From: 0, To: 1, How: lineage.Data, Use: "val", Data: "hydrophone#1:test"},
			{From: 1, To: 2, How: lineage.Saved}, {From: 1, To: 3, How: lineage.Saved}, {From: 2, To: 4,
				How: lineage.Branch},
			{From: 3, To: 4, How: lineage.Equal}, {From: 1, To: 5, How: lineage.Rerun}}}
	l := term.List("side", "links#", "thing", "how", "what", "who", "when")
	sides(g, true, &l)
	var got [][]string
	for _, r := range l.Rows {
		got = append(got, r[:5])
	}
	require.Equal(t, [][]string{
		{"before", "1", "hydrophone#1", "used for train, val (its test)", "snapshot"},
		{"after", "1", "vessels/1@e2", "saved by", "checkpoint"},
		{"after", "2", "  vessels/2", "went on from", "run, Frozen, finished"},
		{"after", "1", "vessels/1@e3", "saved by", "checkpoint"},
		{"after", "2", "  vessels/2", "began with weights equal to", "see above"},
		{"after", "1", "(not for you to see)", "did again", "run"}}, got)
	for _, h := range []lineage.How{lineage.Saved, lineage.Branch, lineage.Rerun, lineage.Equal, lineage.Evaluated,
		lineage.On, lineage.Changed} {
		require.NotEmpty(t, ways[h])
	}
}
