// Package verdict judges curves. Here so far: the objective of a run, its direction, and which reading is best.
// It imports core/curve only and does no I/O.
package verdict
