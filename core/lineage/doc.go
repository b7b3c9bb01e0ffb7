// Package lineage tells where a thing comes from and what uses it: a graph of snapshots, runs, checkpoints,
// evaluations and editions, and the same as W3C PROV (https://www.w3.org/TR/prov-overview/), as PROV-JSON
// (https://www.w3.org/submissions/prov-json/) and as PROV-N (https://www.w3.org/TR/prov-n/).
//
//	hydrophone#3 ── train ──► vessels/7 ── saved ──► vessels/7@e13 ── evaluated ──► vessels/7/evaluations/1
//
// A link points from what was there before to what was made with it. The graph has no circle: nothing comes from what
// came after it. Package lineage imports nothing of ours.
package lineage
