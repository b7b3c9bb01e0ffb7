// Package lineage answers where things come from and what uses them, over snapshots, runs, checkpoints and evaluations.
// What the graph means is in core/lineage.
package lineage
