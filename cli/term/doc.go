// Package term is what all commands share: the settings, the client, addresses, listings, figures, charts on a
// terminal, progress, completion. It imports no other folder of cli.
package term
