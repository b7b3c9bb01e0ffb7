// Package slicetest has what tests of slices stand on without a database: a harbour's project and runs in memory, and
// the events that were written. A test embeds a slice's Storage in a struct of its own and answers what it is asked. It
// is imported by tests only.
package slicetest
