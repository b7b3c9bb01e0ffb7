// Package lineage has the queries on where things come from and what uses them.
package lineage
