// Package files takes the files that runs and evaluations wrote and that are no checkpoints, and shows, compares and
// lets them go.
package files
