// Package evaluations has the queries on evaluations of checkpoints.
package evaluations
