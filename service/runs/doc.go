// Package runs is the life of a run: its beginning and where it comes from, its legs and batches, its end, its archive
// and deletion, and the curves of other programs that come in as a run.
package runs
