// Package rules reads and shows rules as they are kept: those of the service, a project or a run. What a rule decides
// is in core.
package rules
