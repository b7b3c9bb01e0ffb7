// Package datasets answers for datasets: how snapshots are made, what is in them, what they say of themselves, and who
// used them. It does not know runs beyond that; what a run used is said in the slice runs.
package datasets
