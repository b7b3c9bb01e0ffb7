// Package cli is the command line but for the service's own commands, which are wired in cmd/kembrel. Each command's
// help text stands with it, once, in the folder of its slice; term is what all share. It imports recorder, client, api
// and core.
package cli
