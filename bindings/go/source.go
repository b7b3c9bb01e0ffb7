package kembrel

import "embed"

// Source is this module's own source, which the service hands out to programs that are built near it (docs/go.md). A
// program that does not use it does not carry it.
//
//go:embed *.go go.mod
var Source embed.FS
