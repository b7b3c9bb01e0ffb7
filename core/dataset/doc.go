// Package dataset knows the items of datasets: each with a key, a digest, a split, a group and labels. It says what is
// wrong with one, packs them for their way to the service, and knows which data a program used by their fingerprints.
//
//	key                       digest  size  split  group     labels  own: depth
//	train/voyage7/tug-1.npy   b3:...  1664  train  voyage7   [tug]       12.5
//	val/voyage9/ferry-3.npy   b3:...  1664  val    voyage9   [ferry]     40.1
//
// Snapshots, their files and what they say of themselves are in kept; tables and paths that become items in intake.
package dataset
