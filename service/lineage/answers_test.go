package lineage

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/lineage"
)

func TestAnswers(t *testing.T) {
	g := &lineage.Graph{Nodes: []lineage.Node{{Kind: lineage.Snapshot, Address: "hydrophone#1", Depth: -2},
		{Kind: lineage.Snapshot, Address: "hydrophone#2", Depth: -1}, {Kind: lineage.Run, Address: "vessels/1",
			Depth: -2},
		{Kind: lineage.Checkpoint, Address: "vessels/1@e3", Depth: -1},
		{Kind: lineage.Checkpoint, Address: "quays/7@e1", State: lineage.Gone, Depth: -1},
		{Kind: lineage.Run, Address: "vessels/2", State: "running"}, {Kind: lineage.Run, Address: "vessels/3",
			Depth: 1},
		{Kind: lineage.Run, State: lineage.Hidden, Depth: 1}, {Kind: lineage.Checkpoint, Address: "vessels/2@e3",
			Depth: 1},
		{Kind: lineage.Evaluation, Address: "vessels/2/evaluations/1", Depth: 2}}}
	require.Equal(t,
		"It comes from 2 snapshots, the run vessels/1 and 2 checkpoints (1 deleted, or not for you to see).",
		sayBefore(g))
	g.Cut = true
	require.Equal(t, "What came of it: 2 runs (1 deleted, or not for you to see), the checkpoint vessels/2@e3 and "+
		"1 evaluation. There is more, which is not shown.", sayAfter(g))
	none := &lineage.Graph{Nodes: []lineage.Node{{Kind: lineage.Run, Address: "vessels/9"}}}
	require.Equal(t, "It comes from nothing that is known here.", sayBefore(none))
	require.Equal(t, "Nothing that is known here uses it.", sayAfter(none))
}
