// Package checkpoints takes checkpoints in whole or not at all, finds them by address, hands their files out, and lets
// them go by keep rules or by hand; it also looks after the chunks that they are made of.
package checkpoints
