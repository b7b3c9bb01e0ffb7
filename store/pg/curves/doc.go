// Package curves keeps curves: the journal, the blocks that it is sealed into, and the summaries.
package curves
