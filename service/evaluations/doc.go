// Package evaluations takes what programs found of checkpoints, compares it with what was recorded where that is asked
// for, and answers for it.
package evaluations
