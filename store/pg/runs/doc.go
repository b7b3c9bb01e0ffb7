// Package runs keeps runs, legs, notes and output.
package runs
