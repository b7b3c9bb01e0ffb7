// Package checkpoints keeps checkpoints, their files and chunks, and keep rules.
package checkpoints
